package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"kettletarn/internal/core/chunk"
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
	err := tx.q.QueryRow(ctx, `insert into people (handle, passphrase, steward) values ($1, $2, $3) returning id`, handle, passphrase,
		steward).Scan(&id)
	return id, err
}

// PersonByHandle relies on people_handle_key.
func (tx *Tx) PersonByHandle(ctx context.Context, handle string) (p Person, err error) {
	err = one(tx.q.QueryRow(ctx, `select id, handle, passphrase, steward from people where handle = $1`, handle), &p.ID, &p.Handle,
		&p.Passphrase, &p.Steward)
	return p, err
}

// People lists everybody, by handle.
func (tx *Tx) People(ctx context.Context) ([]model.PersonRow, error) {
	rows, err := tx.q.Query(ctx, `select p.handle, p.steward, p.created, p.ended, p.passphrase <> '',
			(select count(*) from memberships m join projects j on j.id = m.project_id and j.deleted is null where m.person_id = p.id),
			(select count(*) from tokens t where t.person_id = p.id and t.revoked is null and t.expires > now()), (select max(coalesce(t.used,
				t.created)) from tokens t where t.person_id = p.id)
		from people p order by p.handle`)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p model.PersonRow, err error) {
		err = row.Scan(&p.Handle, &p.Steward, &p.Made, &p.Ended, &p.MaySignIn, &p.Projects, &p.SignIns, &p.Seen)
		return p, err
	})
}

// ReplacePassphrase gives a person another passphrase, "" for none, and notes since when they are let go, where ended says so.
func (tx *Tx) ReplacePassphrase(ctx context.Context, person int64, passphrase string, ended bool) error {
	_, err := tx.q.Exec(ctx, `update people set passphrase = $2, ended = case when $3 then clock_timestamp() end where id = $1`, person,
		passphrase, ended)
	return err
}

// EndTokens makes the tokens of a person unusable, but for one: with all those for single projects, too. It returns how many that were.
func (tx *Tx) EndTokens(ctx context.Context, person int64, except [32]byte, all bool) (int64, error) {
	tag, err := tx.q.Exec(ctx, `update tokens set revoked = now() where person_id = $1 and digest <> $2 and revoked is null and ($3
		or project_id is null)`, person, except[:], all)
	return tag.RowsAffected(), err
}

// SignIns lists the sign-ins of a person that hold, the one used last first; here is the digest of the one that asks.
func (tx *Tx) SignIns(ctx context.Context, person int64, here [32]byte) ([]model.SignedIn, error) {
	rows, err := tx.q.Query(ctx, `select id, label, created, expires, used, digest = $2 from tokens
		where person_id = $1 and project_id is null and revoked is null and expires > now() order by coalesce(used, created) desc,
			id`, person, here[:])
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (s model.SignedIn, err error) {
		err = row.Scan(&s.ID, &s.From, &s.Made, &s.Expires, &s.Used, &s.Here)
		return s, err
	})
}

// EndSignIn ends one sign-in of a person. See ErrNotFound.
func (tx *Tx) EndSignIn(ctx context.Context, person, id int64) (from string, err error) {
	err = one(tx.q.QueryRow(ctx, `update tokens set revoked = now() where person_id = $1 and id = $2 and project_id is null and revoked is null
		returning label`, person, id), &from)
	return from, err
}

// UsedToken notes that a token was used.
func (tx *Tx) UsedToken(ctx context.Context, digest [32]byte) error {
	_, err := tx.q.Exec(ctx, `update tokens set used = now() where digest = $1`, digest[:])
	return err
}

// NewToken is a token to be kept, as its digest. Project is the only one that it is for, and Role the most that it may do there; 0 and ""
// for one that stands for its person in everything.
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
	err = tx.q.QueryRow(ctx, `insert into tokens (digest, person_id, label, expires, project_id, role) values ($1, $2, $3, $4,
		nullif($5::bigint, 0), $6) returning id`,
		t.Digest[:], t.Person, t.Label, t.Expires, t.Project, t.Role).Scan(&id)
	return id, err
}

// Tokens lists the tokens that are for one project, or, with 0, for any, and still hold: those of a person, or, with 0, of all. Relies on
// tokens_of_project.
func (tx *Tx) Tokens(ctx context.Context, project, person int64) ([]model.Token, error) {
	rows, err := tx.q.Query(ctx, `select t.id, j.key, p.handle, t.label, t.role, t.created, t.expires from tokens t join people p
		on p.id = t.person_id join projects j on j.id = t.project_id and j.deleted is null
		where ($1 = 0 or t.project_id = $1) and ($2 = 0 or t.person_id = $2) and t.revoked is null and t.expires > now() order by j.key, t.id`,
		project, person)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (t model.Token, err error) {
		err = row.Scan(&t.ID, &t.Project, &t.Person, &t.Label, &t.Role, &t.Made, &t.Expires)
		return t, err
	})
}

// EndProjectToken makes a token of a project unusable, and tells whose it was; person 0 stands for anybody's. See ErrNotFound.
func (tx *Tx) EndProjectToken(ctx context.Context, project, id, person int64) (label, handle string, err error) {
	err = one(tx.q.QueryRow(ctx, `update tokens t set revoked = now() from people p where p.id = t.person_id and t.project_id = $1
		and t.id = $2 and ($3 = 0 or t.person_id = $3)
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
	// Used is when it was last noted as used.
	Used *time.Time
}

// TokenByDigest finds a token, and what its person is in the project with a key. Relies on the primary keys and projects_key_key. Ended
// covers both expiry and sign-out, by the database's clock.
func (tx *Tx) TokenByDigest(ctx context.Context, digest [32]byte, key string) (t Token, err error) {
	err = one(tx.q.QueryRow(ctx, `
		select p.id, p.handle, p.steward, t.label, coalesce(t.revoked, t.expires), t.revoked is not null or t.expires <= now(), coalesce(j.key,
			''), t.role,
			coalesce(h.id, 0), coalesce(m.role, ''), coalesce(h.archived is not null, false), t.used
		from tokens t join people p on p.id = t.person_id left join projects j on j.id = t.project_id
		left join projects h on h.key = $2 and h.deleted is null left join memberships m on m.project_id = h.id and m.person_id = p.id
			where t.digest = $1`, digest[:], key),
		&t.Person.ID, &t.Person.Handle, &t.Person.Steward, &t.Label, &t.Expires, &t.Ended, &t.Project, &t.Role, &t.Here.ID, &t.Here.Role,
		&t.Here.Archived,
		&t.Used)
	return t, err
}

// TokenHolds tells whether a token can still be used. Relies on the primary key.
func (tx *Tx) TokenHolds(ctx context.Context, digest [32]byte) (ok bool, err error) {
	err = tx.q.QueryRow(ctx, `select exists (select from tokens where digest = $1 and revoked is null and expires > now())`,
		digest[:]).Scan(&ok)
	return ok, err
}

// EndedTokens are those tokens, by digest, that hold no longer; next is how long it is until another one of them ends by itself, an hour
// where that is further off.
func (tx *Tx) EndedTokens(ctx context.Context, digests [][]byte) (ended map[chunk.Digest]bool, next time.Duration, err error) {
	rows, err := tx.q.Query(ctx, `select u.d, coalesce(extract(epoch from t.expires - now()), 0)::float8 from unnest($1::bytea[]) u (d)
		left join tokens t on t.digest = u.d and t.revoked is null and t.expires > now()`, digests)
	if err != nil {
		return nil, 0, err
	}
	ended, next = map[chunk.Digest]bool{}, time.Hour
	var digest []byte
	var left float64
	_, err = pgx.ForEachRow(rows, []any{&digest, &left}, func() error {
		if left <= 0 {
			ended[chunk.Digest(digest)] = true
		} else if left < next.Seconds() {
			next = time.Duration(left * float64(time.Second))
		}
		return nil
	})
	return ended, next, err
}

// EndToken makes a token unusable from now on.
func (tx *Tx) EndToken(ctx context.Context, digest [32]byte) error {
	_, err := tx.q.Exec(ctx, `update tokens set revoked = now() where digest = $1 and revoked is null`, digest[:])
	return err
}
