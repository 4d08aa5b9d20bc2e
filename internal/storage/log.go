package storage

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// slowQuery is from when on a statement is worth a line.
const slowQuery = 500 * time.Millisecond

// queryLogger writes GORM's reports to slog. SQL is written with placeholders,
// never with the parameters, which may be ciphertext or settings.
type queryLogger struct{ log *slog.Logger }

func newLogger(log *slog.Logger) logger.Interface { return queryLogger{log} }

func (q queryLogger) LogMode(logger.LogLevel) logger.Interface { return q }

func (q queryLogger) Info(ctx context.Context, message string, _ ...any) {
	q.log.DebugContext(ctx, message)
}

func (q queryLogger) Warn(ctx context.Context, message string, _ ...any) {
	q.log.WarnContext(ctx, message)
}

func (q queryLogger) Error(ctx context.Context, message string, _ ...any) {
	q.log.ErrorContext(ctx, message)
}

func (q queryLogger) Trace(ctx context.Context, begin time.Time, f func() (string, int64), err error) {
	elapsed := time.Since(begin)
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) && !errors.Is(err, gorm.ErrDuplicatedKey) && !errors.Is(err, context.Canceled) {
		query, _ := f()
		q.log.WarnContext(ctx, "a statement failed", "sql", query, "error", classify(err))
	} else if elapsed > slowQuery {
		query, rows := f()
		q.log.WarnContext(ctx, "a slow statement", "sql", query, "rows", rows, "ms", elapsed.Milliseconds())
	}
}

// ParamsFilter keeps parameters out of the SQL that is logged.
func (queryLogger) ParamsFilter(_ context.Context, sql string, _ ...any) (string, []any) {
	return sql, nil
}
