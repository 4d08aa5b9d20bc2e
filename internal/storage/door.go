package storage

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
)

// errNoScope is what a statement outside a transaction gets: it has no scope.
var errNoScope = errors.New("a statement was tried outside a scoped transaction")

// door is the pool that GORM's root has: statements are refused on it, only
// transactions can be begun.
type door struct{ pool *sql.DB }

func (d door) BeginTx(ctx context.Context, options *sql.TxOptions) (*sql.Tx, error) {
	return d.pool.BeginTx(ctx, options)
}

func (door) PrepareContext(context.Context, string) (*sql.Stmt, error) { return nil, errNoScope }

func (door) ExecContext(context.Context, string, ...any) (sql.Result, error) { return nil, errNoScope }

func (door) QueryContext(context.Context, string, ...any) (*sql.Rows, error) { return nil, errNoScope }

func (door) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	return refusing.QueryRowContext(ctx, query, args...)
}

// refusing makes rows that hold nothing but the error, which no other way makes.
var refusing = sql.OpenDB(noConnector{})

type noConnector struct{}

func (noConnector) Connect(context.Context) (driver.Conn, error) { return nil, errNoScope }
func (noConnector) Driver() driver.Driver                        { return nil }
