// Package password tells whether a password is one that guessing would find, as
// NIST SP 800-63B-4 asks: by its length, and by what many people choose; not by
// which kinds of characters it has.
package password

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"adytum.example/internal/core/secret"
)

// Limits of a password.
const (
	MinLength = 15   // characters; section 3.1.1.2 asks for 15 where it is the only factor
	MaxBytes  = 1000 // of its UTF-8
)

// needed is how many characters must be left of a password when everything is
// taken out of it that a guesser tries first.
const needed = 8

//go:embed common.txt
var commonText string

// common are words and runs that many passwords are made of, the longest first.
var common = func() []string {
	words := strings.Fields(commonText)
	slices.SortFunc(words, func(a, b string) int { return len(b) - len(a) })
	return words
}()

// rows are keys beside one another, and the order that everybody knows.
var rows = []string{"qwertyuiop", "asdfghjkl", "zxcvbnm", "qwertzuiop", "azertyuiop", "1234567890", "abcdefghijklmnopqrstuvwxyz", "1qaz2wsx3edc4rfv5tgb6yhn7ujm8ik9ol0p"}

// Check says everything that is wrong with a password. About are words that
// belong to its person: a login, a name, the organization's name. Nothing that
// it says holds any part of the password.
func Check(p secret.Value, about ...string) []string {
	var wrong []string
	n := utf8.RuneCount(p.Expose())
	switch {
	case !utf8.Valid(p.Expose()):
		return []string{"the password is not UTF-8 text"}
	case n < MinLength:
		wrong = append(wrong, fmt.Sprintf("the password is shorter than %d characters; several words make a good one", MinLength))
	case p.Len() > MaxBytes:
		wrong = append(wrong, fmt.Sprintf("the password is longer than %d bytes", MaxBytes))
	case n-explained(p, about) < needed:
		wrong = append(wrong, "the password is made of what many people choose (common words, rows of keys, repetitions, your own name); choose words that have nothing to do with each other")
	}
	return wrong
}

// explained is how many characters of a password are part of common words, rows
// of keys, repetitions, or words about its person.
func explained(p secret.Value, about []string) int {
	text := []rune(plain(string(p.Expose())))
	taken := make([]bool, len(text))
	words := slices.Clone(common)
	for _, a := range about {
		for _, part := range strings.FieldsFunc(a, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			if utf8.RuneCountInString(part) >= 3 {
				words = append(words, plain(part))
			}
		}
	}
	for _, word := range words {
		mark(text, taken, []rune(word))
	}
	markRuns(text, taken)
	markRepetitions(text, taken)
	n := 0
	for _, t := range taken {
		if t {
			n++
		}
	}
	return n
}

// plain takes out of a text how letters are usually dressed up.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch r {
		case '@', '4':
			return 'a'
		case '0':
			return 'o'
		case '3':
			return 'e'
		case '$', '5':
			return 's'
		case '!', '1':
			return 'i'
		}
		return unicode.ToLower(r)
	}, s)
}

func mark(text []rune, taken []bool, word []rune) {
	for i := 0; i+len(word) <= len(text); i++ {
		if slices.Equal(text[i:i+len(word)], word) {
			for j := range word {
				taken[i+j] = true
			}
		}
	}
}

// markRuns marks four characters or more that stand in a row of keys, forwards or
// backwards.
func markRuns(text []rune, taken []bool) {
	for _, row := range rows {
		forwards := []rune(plain(row))
		backwards := slices.Clone(forwards)
		slices.Reverse(backwards)
		for _, keys := range [][]rune{forwards, backwards} {
			for start := range text {
				for at := range keys {
					n := 0
					for start+n < len(text) && at+n < len(keys) && text[start+n] == keys[at+n] {
						n++
					}
					for j := 0; n >= 4 && j < n; j++ {
						taken[start+j] = true
					}
				}
			}
		}
	}
}

// markRepetitions marks what repeats what stands right before it.
func markRepetitions(text []rune, taken []bool) {
	for size := 1; size <= len(text)/2; size++ {
		for i := size; i+size <= len(text); i++ {
			if slices.Equal(text[i-size:i], text[i:i+size]) && (size > 1 || i > 1 && text[i-2] == text[i]) {
				for j := range size {
					taken[i+j] = true
				}
			}
		}
	}
}
