package wire

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"unicode/utf8"
)

// AppendJSON appends the answer as encoding/json would write it, but for the
// escaping that is for HTML alone. It is the one answer that every start of every
// program waits for.
func (r Resolved) AppendJSON(b []byte) []byte {
	b = append(b, `{"values":[`...)
	for i, v := range r.Values {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendText(append(b, `{"reference":`...), v.Reference)
		b = appendText(append(b, `,"value":`...), v.Value)
		b = appendText(append(b, `,"encoding":`...), v.Encoding)
		b = appendText(append(b, `,"kind":`...), v.Kind)
		b = strconv.AppendInt(append(b, `,"version":`...), v.Version, 10)
		b = appendText(append(b, `,"layer":`...), v.Layer)
		if v.Private {
			b = append(b, `,"private":true`...)
		}
		b = append(b, '}')
	}
	b = append(b, `],"revisions":{`...)
	places := make([]string, 0, len(r.Revisions))
	for place := range r.Revisions {
		places = append(places, place)
	}
	slices.Sort(places)
	for i, place := range places {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(appendText(b, place), ':')
		b = strconv.AppendInt(b, r.Revisions[place], 10)
	}
	return append(b, "}}\n"...)
}

// appendText appends a JSON string.
func appendText(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < ' ' || c >= utf8.RuneSelf || c == '"' || c == '\\' {
			return appendEscaped(b, s)
		}
	}
	return append(append(append(b, '"'), s...), '"')
}

func appendEscaped(b []byte, s string) []byte {
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	if e.Encode(s) != nil {
		return append(b, `""`...) // a string always encodes
	}
	defer clear(text.Bytes())
	return append(b, bytes.TrimSuffix(text.Bytes(), []byte("\n"))...)
}
