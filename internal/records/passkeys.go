package records

import (
	"context"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/model"
)

// ceremonyMinutes is how long a browser has to answer.
const ceremonyMinutes = 5

// AddCeremony keeps what a browser was asked, under the digest of a secret; person is 0 for somebody who wants to sign in. Those that
// nobody answered in time go.
func (tx *Tx) AddCeremony(ctx context.Context, secret [32]byte, person int64, session []byte) error {
	if _, err := tx.q.Exec(ctx, `delete from ceremonies where until < clock_timestamp()`); err != nil {
		return err
	}
	_, err := tx.q.Exec(ctx, `insert into ceremonies (secret, person_id, session, until)
		values ($1, nullif($2::bigint, 0), $3, clock_timestamp() + $4 * interval '1 minute')`, secret[:], person, session, ceremonyMinutes)
	return err
}

// TakeCeremony takes it out, so that it is answered once. See ErrNotFound.
func (tx *Tx) TakeCeremony(ctx context.Context, secret [32]byte, person int64) (session []byte, err error) {
	err = one(tx.q.QueryRow(ctx, `delete from ceremonies where secret = $1 and coalesce(person_id, 0) = $2 and until > clock_timestamp()
		returning session`, secret[:], person), &session)
	return session, err
}

// AddPasskey keeps a passkey of a person, by its id, and returns it.
func (tx *Tx) AddPasskey(ctx context.Context, person int64, id, credential []byte, name string) (p model.Passkey, err error) {
	p.Name = name
	err = tx.q.QueryRow(ctx, `insert into passkeys (person_id, credential_id, credential, name) values ($1, $2, $3, $4) returning id, made`,
		person, id,
		credential, name).Scan(&p.Number, &p.Made)
	return p, err
}

// Passkeys lists a person's, the oldest first, and what is kept of each.
func (tx *Tx) Passkeys(ctx context.Context, person int64) (list []model.Passkey, credentials [][]byte, err error) {
	rows, err := tx.q.Query(ctx, `select id, name, made, used, credential from passkeys where person_id = $1 order by id`, person)
	if err != nil {
		return nil, nil, err
	}
	list = []model.Passkey{}
	var p model.Passkey
	var credential []byte
	_, err = pgx.ForEachRow(rows, []any{&p.Number, &p.Name, &p.Made, &p.Used, &credential}, func() error {
		list, credentials = append(list, p), append(credentials, append([]byte(nil), credential...))
		return nil
	})
	return list, credentials, err
}

// PasskeyHolder finds whose a passkey is, where they may sign in. See ErrNotFound.
func (tx *Tx) PasskeyHolder(ctx context.Context, id []byte) (p Person, err error) {
	err = one(tx.q.QueryRow(ctx, `select p.id, p.handle, p.steward from passkeys k join people p on p.id = k.person_id
		where k.credential_id = $1 and p.ended is null`, id), &p.ID, &p.Handle, &p.Steward)
	return p, err
}

// UsedPasskey notes that a passkey was used, and what is to be kept of it now.
func (tx *Tx) UsedPasskey(ctx context.Context, id, credential []byte) error {
	_, err := tx.q.Exec(ctx, `update passkeys set used = clock_timestamp(), credential = $2 where credential_id = $1`, id, credential)
	return err
}

// RemovePasskey takes one of a person's away. See ErrNotFound.
func (tx *Tx) RemovePasskey(ctx context.Context, person, number int64) (name string, err error) {
	err = one(tx.q.QueryRow(ctx, `delete from passkeys where person_id = $1 and id = $2 returning name`, person, number), &name)
	return name, err
}

// EndPasskeys takes all of a person's away.
func (tx *Tx) EndPasskeys(ctx context.Context, person int64) error {
	_, err := tx.q.Exec(ctx, `delete from passkeys where person_id = $1`, person)
	return err
}
