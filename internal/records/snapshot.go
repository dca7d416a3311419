package records

import (
	"context"
	"fmt"
	"os"
	"strconv"

	"github.com/jackc/pgx/v5"
)

// PackFile is a pack, as the store has it. Size is in bytes.
type PackFile struct {
	Name string
	Size int64
}

// Snapshot calls work with the name of a snapshot of the database (pg_export_snapshot), which holds meanwhile, and the packs that it names,
// the condemned ones excepted: nothing refers to what is in those.
func (db *DB) Snapshot(ctx context.Context, work func(snapshot string, packs []PackFile, projects []string) error) error {
	return explain(pgx.BeginTxFunc(ctx, db.pool, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}, func(t pgx.Tx) error {
		if _, err := t.Exec(ctx, `set local idle_in_transaction_session_timeout = 0; set local statement_timeout = 0`); err != nil {
			return err
		}
		var snapshot string
		if err := t.QueryRow(ctx, `select pg_export_snapshot()`).Scan(&snapshot); err != nil {
			return err
		}
		rows, err := t.Query(ctx, `select name, size from packs where condemned is null order by name`)
		if err != nil {
			return err
		}
		packs, err := pgx.CollectRows(rows, pgx.RowToStructByPos[PackFile])
		if err != nil {
			return err
		}
		if rows, err = t.Query(ctx, `select key from projects where deleted is null order by key`); err != nil {
			return err
		}
		projects, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		return work(snapshot, packs, projects)
	}))
}

// Environment is how PostgreSQL's own programs reach a database: its address in the variables that they read (libpq, "Environment
// Variables"), so that no password stands among a program's arguments.
func Environment(url string) ([]string, error) {
	c, err := pgx.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the address of the database can't be read: %w", cause(err))
	}
	env := append(os.Environ(), "PGHOST="+c.Host, "PGPORT="+strconv.Itoa(int(c.Port)), "PGUSER="+c.User, "PGDATABASE="+c.Database)
	if c.Password != "" {
		env = append(env, "PGPASSWORD="+c.Password)
	}
	return env, nil
}

// Empty reports whether a database has no tables. It is not opened otherwise, and nothing is made in it.
func Empty(ctx context.Context, url string) (empty bool, err error) {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return false, fmt.Errorf("the database can't be reached: %w", cause(err))
	}
	defer conn.Close(context.WithoutCancel(ctx))
	err = conn.QueryRow(ctx, `select not exists (select from pg_class c join pg_namespace n on n.oid = c.relnamespace
		where n.nspname = 'public' and c.relkind in ('r', 'S', 'v'))`).Scan(&empty)
	return empty, err
}

// Incarnation is which life of the service it is.
func (tx *Tx) Incarnation(ctx context.Context) (id string, err error) {
	err = one(tx.q.QueryRow(ctx, `select incarnation from lives order by began desc limit 1`), &id)
	return id, err
}

// BeginLife begins another life of the service: it was restored.
func (tx *Tx) BeginLife(ctx context.Context) error {
	_, err := tx.q.Exec(ctx, `insert into lives default values`)
	return err
}
