package main

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"adytum.example/client"
)

// middle is the middle of the times that two things take, asked in turns.
func middle(n int, one, other func() error) (a, b time.Duration, err error) {
	times := [2][]time.Duration{}
	for range n {
		for i, ask := range []func() error{one, other} {
			start := time.Now()
			if err := ask(); err != nil {
				return 0, 0, err
			}
			times[i] = append(times[i], time.Since(start))
		}
	}
	slices.Sort(times[0])
	slices.Sort(times[1])
	return times[0][n/2], times[1][n/2], nil
}

// refused makes what must be refused an error where it is not.
func refused(err error) error {
	var problem *client.Error
	if !errors.As(err, &problem) {
		return fmt.Errorf("it was not refused: %w", err)
	}
	return nil
}

// hidden measures whether a place that the caller may not know of takes as long to
// refuse as one that is not there.
func (b *bench) hidden() (row, error) {
	ask := func(environment string) func() error {
		return func() error {
			_, err := b.client.Value(context.Background(), client.Place{Project: "loans", Environment: environment}, "PGPASSWORD")
			return refused(err)
		}
	}
	there, missing, err := middle(400, ask("staging"), ask("nowhere"))
	return row{us(there), us(missing), fmt.Sprintf("%.2f", float64(there)/float64(missing)), "a value in an environment that is hidden, beside one that is not there; middle of 400"}, err
}

// signIns measures whether a wrong password takes as long as an unknown name.
func (b *bench) signIns() (row, error) {
	ask := func(login string) func() error {
		n := 0
		return func() error {
			c, err := client.New(b.demo.URL)
			if err != nil {
				return err
			}
			if n++; login == "" {
				_, err = c.SignIn(context.Background(), fmt.Sprintf("nobody-%d@fernhollow.example", n), "gravel teacup eleven moth")
			} else {
				_, err = c.SignIn(context.Background(), login, "gravel teacup eleven moth")
			}
			return refused(err)
		}
	}
	// Few: after five failures of a name or a network the service holds back.
	known, unknown, err := middle(2, ask(b.demo.People[1].Login), ask(""))
	return row{us(known), us(unknown), fmt.Sprintf("%.2f", float64(known)/float64(unknown)), "a wrong password, beside a name that is not there; of 2"}, err
}

func us(d time.Duration) string { return fmt.Sprintf("%.2f ms", float64(d.Microseconds())/1000) }
