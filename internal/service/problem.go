package service

import (
	"errors"
	"fmt"

	"adytum.example/internal/storage"
)

// Kind is the sort of a [Problem]; interfaces turn it into their own codes.
type Kind int

// The kinds of problem.
const (
	Invalid         Kind = iota + 1 // the request can never succeed as it is
	Unauthenticated                 // nobody signed in, or no longer
	Forbidden                       // not allowed, where the caller may know that the thing exists
	NotFound                        // not there, or not for the caller to know of
	Conflict                        // taken, or changed meanwhile
	Unavailable                     // try again
)

// Problem is an answer other than success, in words for people. Details are all
// the things that are wrong where there are several. Neither holds a value.
type Problem struct {
	Kind    Kind
	Message string
	Details []string
}

func (p *Problem) Error() string { return p.Message }

func problem(kind Kind, format string, args ...any) *Problem {
	return &Problem{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// problems joins several: one stands for itself, more are listed.
func problems(kind Kind, what string, details []string) *Problem {
	if len(details) == 1 {
		return &Problem{Kind: kind, Message: details[0], Details: details}
	}
	return &Problem{Kind: kind, Message: fmt.Sprintf("%d %s", len(details), what), Details: details}
}

var errSignIn = problem(Unauthenticated, "not signed in, or no longer; sign in with \"adytum login\"")

// asProblem makes an error into a Problem where it is one that callers are told
// of; anything else stays as it is and is answered without its text.
func asProblem(err error) error {
	var p *Problem
	switch {
	case err == nil || errors.As(err, &p):
		return err
	case errors.Is(err, storage.ErrUnavailable):
		return problem(Unavailable, "the database cannot be reached; try again in a moment")
	}
	return err
}
