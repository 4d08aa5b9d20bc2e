package storage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Tables of a backup, in the order in which they can be filled. What holds the
// keys goes into a part of its own. Tokens are left out: after a recovery
// everyone signs in anew.
var (
	DataTables = []string{"organization", "root_keys", "projects", "people", "person_names", "factors", "invitations", "teams", "team_members", "workloads", "client_secrets", "issuers", "trusts", "providers", "accounts", "channels", "decoys", "alerts", "revoked_tokens",
		"environments", "roles", "grants", "role_requests", "frozen", "layers", "entries", "versions", "changes", "trail_batches", "trail_order", "trail_tiles", "trail_heads", "checkpoints", "trail_forgotten"}
	KeyTables = []string{"project_keys", "version_keys"}
	// NotBackedUp are the tables that a recovered installation begins without.
	NotBackedUp = []string{"write_keys", "tokens", "instances", "used_codes", "used_signed", "last_uses", "proposals", "refresh_tokens", "upstreams", "devices", "baselines", "deliveries"}
)

// Dump is a connection that reads all tables as of one moment.
type Dump struct {
	conn *pgx.Conn
	tx   pgx.Tx
}

// OpenDump begins reading as the service's role, which sees all projects.
func OpenDump(ctx context.Context, serviceURL string) (*Dump, error) {
	config, err := connection(serviceURL)
	if err != nil {
		return nil, err
	}
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, classify(err)
	}
	d := &Dump{conn: conn}
	if d.tx, err = conn.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly}); err == nil {
		err = d.scope(ctx)
	}
	if err != nil {
		d.Close(ctx)
		return nil, classify(err)
	}
	return d, nil
}

func (d *Dump) scope(ctx context.Context) error {
	if _, err := d.tx.Exec(ctx, "SELECT set_config('adytum.scope', '{0}', true)"); err != nil {
		return err
	}
	_, err := d.tx.Exec(ctx, "SELECT set_config('adytum.scope', (SELECT array_agg(id)::text FROM (SELECT id FROM projects UNION SELECT 0) p), true)")
	return err
}

// Columns are the names of a table's columns, in their order.
func (d *Dump) Columns(ctx context.Context, table string) ([]string, error) {
	return columns(ctx, d.tx, table)
}

func columns(ctx context.Context, tx pgx.Tx, table string) ([]string, error) {
	rows, err := tx.Query(ctx, `SELECT attname FROM pg_attribute WHERE attrelid = ('adytum.' || $1)::regclass AND attnum > 0 AND NOT attisdropped ORDER BY attnum`, table)
	if err != nil {
		return nil, classify(err)
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return all, classify(err)
}

// Copy writes a table's rows in PostgreSQL's binary form, and tells how many.
func (d *Dump) Copy(ctx context.Context, table string, columns []string, w io.Writer) (int64, error) {
	tag, err := d.conn.PgConn().CopyTo(ctx, w, fmt.Sprintf("COPY (SELECT %s FROM %s) TO STDOUT (FORMAT binary)", quoted(columns), pgx.Identifier{table}.Sanitize()))
	return tag.RowsAffected(), classify(err)
}

func quoted(columns []string) string {
	all := make([]string, len(columns))
	for i, c := range columns {
		all[i] = pgx.Identifier{c}.Sanitize()
	}
	return strings.Join(all, ", ")
}

// Close ends the connection.
func (d *Dump) Close(ctx context.Context) {
	if d.tx != nil {
		_ = d.tx.Rollback(ctx)
	}
	_ = d.conn.Close(ctx)
}

// ErrNotEmpty says that a database to recover into holds an installation.
var ErrNotEmpty = errors.New("the database holds an installation already; recover into an empty one (\"adytumd migrate\" makes its tables)")

// Fill fills the empty tables of a migrated database, all or none of them, as
// their owner: each is called for every table, in order.
func Fill(ctx context.Context, migrateURL string, each func(table string, fill func(columns []string, r io.Reader) (int64, error)) error) error {
	return asOwner(ctx, migrateURL, func(conn *pgx.Conn, tx pgx.Tx) error {
		var set bool
		if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM organization)").Scan(&set); err != nil {
			return classify(err)
		}
		if set {
			return ErrNotEmpty
		}
		for _, table := range append(append([]string{}, DataTables...), KeyTables...) {
			err := each(table, func(names []string, r io.Reader) (int64, error) {
				known, err := columns(ctx, tx, table)
				if err != nil {
					return 0, err
				}
				for _, name := range names {
					if !contains(known, name) {
						return 0, fmt.Errorf("the table %s has no column %s in this version", table, name)
					}
				}
				tag, err := conn.PgConn().CopyFrom(ctx, r, fmt.Sprintf("COPY %s (%s) FROM STDIN (FORMAT binary)", pgx.Identifier{table}.Sanitize(), quoted(names)))
				return tag.RowsAffected(), classify(err)
			})
			if err != nil {
				return err
			}
		}
		return setSequences(ctx, tx)
	})
}

func contains(all []string, one string) bool {
	for _, s := range all {
		if s == one {
			return true
		}
	}
	return false
}

// Empty takes back what [Fill] filled in.
func Empty(ctx context.Context, migrateURL string) error {
	return asOwner(ctx, migrateURL, func(_ *pgx.Conn, tx pgx.Tx) error {
		_, err := tx.Exec(ctx, "TRUNCATE "+strings.Join(append(append(slices.Clone(NotBackedUp), DataTables...), KeyTables...), ", "))
		return classify(err)
	})
}

// asOwner runs f in a transaction in which row-level security does not hold for
// the owner of the tables.
func asOwner(ctx context.Context, migrateURL string, f func(*pgx.Conn, pgx.Tx) error) error {
	config, err := connection(migrateURL)
	if err != nil {
		return err
	}
	config.RuntimeParams["role"] = ownerRole
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return classify(err)
	}
	defer conn.Close(ctx)
	tx, err := conn.Begin(ctx)
	if err != nil {
		return classify(err)
	}
	defer tx.Rollback(ctx)
	all := append(append([]string{}, DataTables...), KeyTables...)
	for _, word := range []string{"NO FORCE", "FORCE"} {
		for _, table := range all {
			if _, err := tx.Exec(ctx, "ALTER TABLE "+pgx.Identifier{table}.Sanitize()+" "+word+" ROW LEVEL SECURITY"); err != nil {
				return classify(err)
			}
		}
		if word == "NO FORCE" {
			if err := f(conn, tx); err != nil {
				return err
			}
		}
	}
	return classify(tx.Commit(ctx))
}

// setSequences lets ids go on where those that were filled in end.
func setSequences(ctx context.Context, tx pgx.Tx) error {
	_, err := tx.Exec(ctx, `DO $$
		DECLARE r record;
		BEGIN
			FOR r IN SELECT c.relname AS name, a.attname AS field FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid
				WHERE c.relnamespace = 'adytum'::regnamespace AND c.relkind = 'r' AND a.attidentity <> ''
			LOOP
				EXECUTE format('SELECT setval(pg_get_serial_sequence(%L, %L), (SELECT coalesce(max(%I), 0) + 1000 FROM adytum.%I))', 'adytum.' || r.name, r.field, r.field, r.name);
			END LOOP;
		END $$`)
	return classify(err)
}
