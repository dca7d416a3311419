// Package records keeps everything but content in PostgreSQL: every line of SQL of the project is here, one file a concept. It
// decides nothing; the service does, inside the transactions that this package opens.
package records

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/tern/v2/migrate"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned where the one row that was asked for is not there.
var ErrNotFound = errors.New("not found")

// ErrUnavailable is wrapped by errors that come from the database being away, and not from what was asked.
var ErrUnavailable = errors.New("the database can't be reached")

// ErrTooLong is wrapped where a statement took longer than one may: see patience.
var ErrTooLong = errors.New("it took too long")

// ErrNoText is wrapped where something was no text that the database takes: a zero byte, or broken UTF-8.
var ErrNoText = errors.New("it is no text")

// patience is how long one statement may take. What keeps the house, by itself or at the operator's command, takes the time that it needs:
// see Patient.
const patience = 60 * time.Second

// DB is a pool of connections, safe for concurrent use.
type DB struct {
	pool *pgxpool.Pool
	wake chan struct{}
	done chan struct{}
	stop context.CancelFunc
}

// Open connects and brings the schema up to date. url is a libpq connection string or URL. Its errors are one sentence.
func Open(ctx context.Context, url string) (*DB, error) { return OpenTraced(ctx, url, nil) }

// maxConns is how many connections one service takes where the address does not say (pool_max_conns): PostgreSQL has 100 by default, for
// all services together.
const maxConns = 24

// OpenTraced is Open with somebody who is told of every statement before it runs, and may hold it back.
func OpenTraced(ctx context.Context, url string, tracer pgx.QueryTracer) (*DB, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, errors.New("the database address is not one that PostgreSQL understands; it looks like postgres://tarnd@127.0.0.1:5432/tarnd")
	}
	if config.ConnConfig.ConnectTimeout == 0 {
		config.ConnConfig.ConnectTimeout = 10 * time.Second
	}
	if !strings.Contains(url, "pool_max_conns") {
		config.MaxConns = maxConns
	}
	config.ConnConfig.Tracer = tracer
	config.ConnConfig.RuntimeParams["application_name"] = "tarnd"
	config.ConnConfig.RuntimeParams["timezone"] = "UTC"
	// A plan that was made while a table was small would be kept when it has grown a thousandfold, and compiling one costs more than
	// any of ours takes.
	config.ConnConfig.RuntimeParams["plan_cache_mode"] = "force_custom_plan"
	config.ConnConfig.RuntimeParams["jit"] = "off"
	config.ConnConfig.RuntimeParams["statement_timeout"] = strconv.Itoa(int(patience.Milliseconds()))
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	if err := prepare(ctx, pool); err != nil {
		pool.Close()
		return nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	db := &DB{pool: pool, wake: make(chan struct{}, 1), done: make(chan struct{}), stop: stop}
	go db.notify(ctx)
	return db, nil
}

func prepare(ctx context.Context, pool *pgxpool.Pool) error {
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("the database at %s can't be reached: %w", address(pool), cause(err))
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, `set statement_timeout = 0`); err != nil {
		return err
	}
	defer func() { _, _ = conn.Exec(context.WithoutCancel(ctx), `reset statement_timeout`) }()
	m, err := migrate.NewMigrator(ctx, conn.Conn(), "public.schema_version")
	if err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if err := m.LoadMigrations(files); err != nil {
		return err
	}
	version, err := m.GetCurrentVersion(ctx)
	if err != nil {
		return err
	}
	if int(version) > len(m.Migrations) {
		return fmt.Errorf("the database has schema %d, made by a newer tarnd; this one knows %d: run the newer tarnd", version, len(m.Migrations))
	}
	var whole bool
	if err := conn.QueryRow(ctx, `select to_regclass('public.nodes') is not null`).Scan(&whole); err != nil {
		return err
	}
	if version > 0 && !whole {
		return errors.New("the database was made by a first tarnd, whose tables are not read any more; name an empty database with --db (make " +
			"demo-reset for the demo)")
	}
	return m.Migrate(ctx)
}

func address(pool *pgxpool.Pool) string {
	c := pool.Config().ConnConfig
	return fmt.Sprintf("%s:%d", c.Host, c.Port)
}

// cause is what went wrong in the end, in a few words: what the database said, where it said something, and else what the system said. pgx
// tries with TLS and without, and joins what came of each try: the first may only say that there is no TLS.
func cause(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "3D000":
			return fmt.Errorf("%s; make it with createdb, or name another one with --db", pg.Message)
		case "28P01", "28000":
			return fmt.Errorf("%s; see that the user in --db may connect (pg_hba.conf)", pg.Message)
		}
		return errors.New(pg.Message)
	}
	for {
		switch e := err.(type) {
		case interface{ Unwrap() error }:
			if e.Unwrap() == nil {
				return err
			}
			err = e.Unwrap()
		case interface{ Unwrap() []error }:
			list := e.Unwrap()
			if len(list) == 0 {
				return err
			}
			err = list[len(list)-1]
		default:
			return err
		}
	}
}

// Close ends all connections.
func (db *DB) Close() {
	db.stop()
	<-db.done
	db.pool.Close()
}

// Ping tells whether the database answers.
func (db *DB) Ping(ctx context.Context) error { return db.pool.Ping(ctx) }

// Many rows are looked up with unnest of an array and, for each element, a lateral query with limit 1: a look into the index for each,
// whatever the planner believes. A table that grew just now has no statistics yet, and any other form may compare every row of a
// project with every element.

// Tx is one transaction, or, where it came from Read, a single connection outside one. Not safe for concurrent use.
type Tx struct {
	q interface {
		Exec(ctx context.Context, sql string, args ...any) (pgconn.CommandTag, error)
		Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
		QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
		SendBatch(ctx context.Context, batch *pgx.Batch) pgx.BatchResults
		CopyFrom(ctx context.Context, table pgx.Identifier, columns []string, rows pgx.CopyFromSource) (int64, error)
	}
	events bool
}

// Write runs work in one transaction, again from the start where PostgreSQL asks for that (a deadlock). What work returns is
// returned; any error undoes everything. After a commit that recorded events, the readers of news are woken.
func (db *DB) Write(ctx context.Context, work func(*Tx) error) error {
	for attempt := 0; ; attempt++ {
		var tx *Tx
		err := pgx.BeginFunc(ctx, db.pool, func(t pgx.Tx) error {
			tx = &Tx{q: t}
			return work(tx)
		})
		var pg *pgconn.PgError
		if errors.As(err, &pg) && (pg.Code == "40P01" || pg.Code == "40001") && attempt < 5 {
			continue
		}
		if err == nil && tx.events {
			select {
			case db.wake <- struct{}{}:
			default:
			}
		}
		return explain(err)
	}
}

// Use runs work on one connection, each statement by itself: it sees what is committed when it starts, and what it writes stays.
func (db *DB) Use(ctx context.Context, work func(*Tx) error) error {
	return explain(db.pool.AcquireFunc(ctx, func(c *pgxpool.Conn) error {
		return work(&Tx{q: c})
	}))
}

// Patient lets the statements of this transaction take as long as they need.
func (tx *Tx) Patient(ctx context.Context) error {
	_, err := tx.q.Exec(ctx, `set local statement_timeout = 0`)
	return err
}

// KeepPlans lets the statements of this transaction use plans that hold for any parameters, once each has been made: planning takes longer
// than executing where the same few statements are made for one row or a few, again and again.
func (tx *Tx) KeepPlans(ctx context.Context) error {
	_, err := tx.q.Exec(ctx, `select set_config('plan_cache_mode', 'force_generic_plan', true)`)
	return err
}

// explain marks the errors that mean that the database is away.
func explain(err error) error {
	if err == nil {
		return nil
	}
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrNotFound
	}
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err // who asked is gone: that says nothing of the database
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code {
		case "57014":
			return fmt.Errorf("%w (%s)", ErrTooLong, pg.Message)
		case "22021", "22P05":
			return fmt.Errorf("%w (%s)", ErrNoText, pg.Message)
		}
		// Class 57: shut down by an administrator, starting up, crashed.
		if pg.Code[:2] == "57" || pg.Code[:2] == "08" || pg.Code == "53300" {
			return fmt.Errorf("%w (%s)", ErrUnavailable, pg.Message)
		}
		return err
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) || pgconn.SafeToRetry(err) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("%w (%v)", ErrUnavailable, cause(err))
	}
	return err
}

// one reads a single row, turning "no rows" into ErrNotFound.
func one(row pgx.Row, into ...any) error {
	if err := row.Scan(into...); err != nil {
		if errors.Is(err, pgx.ErrNoRows) {
			return ErrNotFound
		}
		return err
	}
	return nil
}

// Duplicate reports whether err is the violation of a unique constraint.
func Duplicate(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}
