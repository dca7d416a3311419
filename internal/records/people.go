package records

import (
	"context"
	"time"
)

// Person is a row of people. Passphrase is an argon2id string.
type Person struct {
	ID         int64
	Handle     string
	Passphrase string
	Steward    bool
}

// AddPerson makes a person. See Duplicate.
func (tx *Tx) AddPerson(ctx context.Context, handle, passphrase string, steward bool) (int64, error) {
	var id int64
	err := tx.q.QueryRow(ctx, `insert into people (handle, passphrase, steward) values ($1, $2, $3) returning id`, handle, passphrase, steward).Scan(&id)
	return id, err
}

// PersonByHandle relies on people_handle_key.
func (tx *Tx) PersonByHandle(ctx context.Context, handle string) (p Person, err error) {
	err = one(tx.q.QueryRow(ctx, `select id, handle, passphrase, steward from people where handle = $1`, handle), &p.ID, &p.Handle, &p.Passphrase, &p.Steward)
	return p, err
}

// AddToken keeps a token's digest.
func (tx *Tx) AddToken(ctx context.Context, digest [32]byte, person int64, label string, expires time.Time) error {
	_, err := tx.q.Exec(ctx, `insert into tokens (digest, person_id, label, expires) values ($1, $2, $3, $4)`, digest[:], person, label, expires)
	return err
}

// Token is a token with its person.
type Token struct {
	Person  Person
	Label   string
	Expires time.Time
	Ended   bool
}

// TokenByDigest relies on the primary key. Ended covers both expiry and sign-out, by the database's clock.
func (tx *Tx) TokenByDigest(ctx context.Context, digest [32]byte) (t Token, err error) {
	err = one(tx.q.QueryRow(ctx, `
		select p.id, p.handle, p.steward, t.label, coalesce(t.revoked, t.expires), t.revoked is not null or t.expires <= now()
		from tokens t join people p on p.id = t.person_id where t.digest = $1`, digest[:]),
		&t.Person.ID, &t.Person.Handle, &t.Person.Steward, &t.Label, &t.Expires, &t.Ended)
	return t, err
}

// EndToken makes a token unusable from now on.
func (tx *Tx) EndToken(ctx context.Context, digest [32]byte) error {
	_, err := tx.q.Exec(ctx, `update tokens set revoked = now() where digest = $1 and revoked is null`, digest[:])
	return err
}
