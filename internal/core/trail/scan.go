package trail

import (
	"bytes"
	"errors"
)

// errForm says that bytes are not what [Event.Canonical] and [NewBatch] write.
var errForm = errors.New("the events cannot be read")

// elements are the events of a batch's body, each as it stands there.
func elements(body []byte, n int) ([][]byte, error) {
	all := make([][]byte, 0, min(n, MaxBatch))
	if len(body) < 2 || body[0] != '[' || body[len(body)-1] != ']' {
		return nil, errForm
	}
	for i := 1; ; {
		end := valueEnd(body, i)
		if end < 0 || end >= len(body) {
			return nil, errForm
		}
		all = append(all, body[i:end])
		switch {
		case body[end] == ',':
			i = end + 1
		case end == len(body)-1:
			return all, nil
		default:
			return nil, errForm
		}
	}
}

// members calls f with each member of an event as it stands there: its key
// without quotes, its value with them.
func members(event []byte, f func(key, value []byte)) error {
	if len(event) < 2 || event[0] != '{' {
		return errForm
	}
	for i := 1; i < len(event); {
		end := valueEnd(event, i)
		if end < 0 || end+1 >= len(event) || event[i] != '"' || event[end] != ':' {
			return errForm
		}
		value := end + 1
		after := valueEnd(event, value)
		if after < 0 || after >= len(event) {
			return errForm
		}
		f(event[i+1:end-1], event[value:after])
		switch {
		case event[after] == ',':
			i = after + 1
		case event[after] == '}' && after == len(event)-1:
			return nil
		default:
			return errForm
		}
	}
	return errForm
}

// valueEnd is where the JSON value that begins at i ends, or -1. It follows
// quotes and brackets and looks at nothing else.
func valueEnd(b []byte, i int) int {
	if i >= len(b) {
		return -1
	}
	switch b[i] {
	case '"':
		return textEnd(b, i)
	case '{', '[':
		depth := 0
		for i < len(b) {
			switch b[i] {
			case '"':
				if i = textEnd(b, i); i < 0 {
					return -1
				}
				continue
			case '{', '[':
				depth++
			case '}', ']':
				if depth--; depth == 0 {
					return i + 1
				}
			}
			i++
		}
		return -1
	}
	end := bytes.IndexAny(b[i:], ",]}")
	if end <= 0 {
		return -1
	}
	return i + end
}

// textEnd is where the text that begins with the quote at i ends, or -1.
func textEnd(b []byte, i int) int {
	for i++; ; i++ {
		n := bytes.IndexByte(b[i:], '"')
		if n < 0 {
			return -1
		}
		i += n
		escapes := 0
		for b[i-1-escapes] == '\\' {
			escapes++
		}
		if escapes%2 == 0 {
			return i + 1
		}
	}
}
