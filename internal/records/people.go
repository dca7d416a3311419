package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
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

// NewToken is a token to be kept, as its digest. Project is the only one that it is for, and Role the most that it may do there; 0 and "" for
// one that stands for its person in everything.
type NewToken struct {
	Digest  [32]byte
	Person  int64
	Label   string
	Expires time.Time
	Project int64
	Role    string
}

// AddToken keeps a token's digest, and returns its number.
func (tx *Tx) AddToken(ctx context.Context, t NewToken) (id int64, err error) {
	err = tx.q.QueryRow(ctx, `insert into tokens (digest, person_id, label, expires, project_id, role) values ($1, $2, $3, $4, nullif($5::bigint, 0), $6) returning id`,
		t.Digest[:], t.Person, t.Label, t.Expires, t.Project, t.Role).Scan(&id)
	return id, err
}

// Tokens lists the tokens that are for one project and still hold: those of a person, or, with 0, of all. Relies on tokens_of_project.
func (tx *Tx) Tokens(ctx context.Context, project, person int64) ([]model.Token, error) {
	rows, err := tx.q.Query(ctx, `select t.id, p.handle, t.label, t.role, t.created, t.expires from tokens t join people p on p.id = t.person_id
		where t.project_id = $1 and ($2 = 0 or t.person_id = $2) and t.revoked is null and t.expires > now() order by t.id`, project, person)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (t model.Token, err error) {
		err = row.Scan(&t.ID, &t.Person, &t.Label, &t.Role, &t.Made, &t.Expires)
		return t, err
	})
}

// EndProjectToken makes a token of a project unusable, and tells whose it was; person 0 stands for anybody's. See ErrNotFound.
func (tx *Tx) EndProjectToken(ctx context.Context, project, id, person int64) (label, handle string, err error) {
	err = one(tx.q.QueryRow(ctx, `update tokens t set revoked = now() from people p where p.id = t.person_id and t.project_id = $1 and t.id = $2 and ($3 = 0 or t.person_id = $3)
		and t.revoked is null returning t.label, p.handle`, project, id, person), &label, &handle)
	return label, handle, err
}

// Token is a token with its person.
type Token struct {
	Person  Person
	Label   string
	Expires time.Time
	Ended   bool
	// Project is the key of the only project that it is for, and Role the most that it may do there; "" for no bounds.
	Project string
	Role    string
	// Here is the project that was asked about, as far as a right in it needs it: its id and the person's role, 0 and "" where there is none.
	Here Project
}

// TokenByDigest finds a token, and what its person is in the project with a key. Relies on the primary keys and projects_key_key. Ended covers both expiry and sign-out, by the database's clock.
func (tx *Tx) TokenByDigest(ctx context.Context, digest [32]byte, key string) (t Token, err error) {
	err = one(tx.q.QueryRow(ctx, `
		select p.id, p.handle, p.steward, t.label, coalesce(t.revoked, t.expires), t.revoked is not null or t.expires <= now(), coalesce(j.key, ''), t.role,
			coalesce(h.id, 0), coalesce(m.role, '')
		from tokens t join people p on p.id = t.person_id left join projects j on j.id = t.project_id
		left join projects h on h.key = $2 and h.deleted is null left join memberships m on m.project_id = h.id and m.person_id = p.id where t.digest = $1`, digest[:], key),
		&t.Person.ID, &t.Person.Handle, &t.Person.Steward, &t.Label, &t.Expires, &t.Ended, &t.Project, &t.Role, &t.Here.ID, &t.Here.Role)
	return t, err
}

// TokenHolds tells whether a token can still be used. Relies on the primary key.
func (tx *Tx) TokenHolds(ctx context.Context, digest [32]byte) (ok bool, err error) {
	err = tx.q.QueryRow(ctx, `select exists (select from tokens where digest = $1 and revoked is null and expires > now())`, digest[:]).Scan(&ok)
	return ok, err
}

// EndToken makes a token unusable from now on.
func (tx *Tx) EndToken(ctx context.Context, digest [32]byte) error {
	_, err := tx.q.Exec(ctx, `update tokens set revoked = now() where digest = $1 and revoked is null`, digest[:])
	return err
}
