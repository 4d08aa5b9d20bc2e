package service

import (
	"log/slog"
	"sync/atomic"
	"time"

	"adytum.example/internal/storage"
)

// clock is a machine's clock, corrected by the database's where the two differ
// by more than a moment: all instances of an installation go by one time, and a
// machine whose clock is wrong or stands still dates nothing wrongly.
type clock struct {
	machine func() time.Time
	ahead   atomic.Int64 // of the machine's clock, in nanoseconds, as far as it is corrected
}

// clockTolerance is how far a clock may differ and be taken as it is.
const clockTolerance = time.Second

func newClock(machine func() time.Time) *clock {
	if machine == nil {
		machine = time.Now
	}
	return &clock{machine: machine}
}

func (c *clock) now() time.Time { return c.machine().Add(-time.Duration(c.ahead.Load())) }

// compare reads the database's clock and corrects this one.
func (c *clock) compare(tx *storage.Tx, log *slog.Logger) error {
	right, err := tx.Now()
	if err != nil {
		return err
	}
	c.correct(right, log)
	return nil
}

func (c *clock) correct(right time.Time, log *slog.Logger) {
	ahead := c.machine().Sub(right)
	if ahead.Abs() <= clockTolerance {
		ahead = 0
	}
	if was := time.Duration(c.ahead.Swap(int64(ahead))); was == 0 && ahead != 0 {
		log.Warn("this machine's clock differs from the database's, which is gone by", "ahead", ahead.Round(time.Millisecond).String())
	}
}
