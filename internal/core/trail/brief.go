package trail

import (
	"strconv"
	"time"
)

// Brief is what there is to be known of an event without reading all of it.
type Brief struct {
	Lane                 string
	Seq                  int64
	At                   time.Time
	Action               string
	Outcome              Outcome
	Actor                string
	From                 string
	Project, Environment string
	Count                int64
	NotSent              bool
	Names                []byte // as they stand in the event: a JSON array, or nothing
}

// ReadBrief reads an event's canonical form.
func ReadBrief(canonical []byte) (b Brief, err error) {
	var badly error
	number := func(value []byte) int64 {
		n, err := strconv.ParseInt(plain(value), 10, 64)
		if err != nil {
			badly = errForm
		}
		return n
	}
	err = members(canonical, func(key, value []byte) {
		switch string(key) {
		case "lane":
			b.Lane = plain(value)
		case "seq":
			b.Seq = number(value)
		case "count":
			b.Count = number(value)
		case "at":
			if b.At, err = time.Parse(timeForm, plain(value)); err != nil {
				badly = errForm
			}
		case "action":
			b.Action = plain(value)
		case "outcome":
			b.Outcome = Outcome(plain(value))
		case "actor":
			b.Actor = plain(value)
		case "from":
			b.From = plain(value)
		case "project":
			b.Project = plain(value)
		case "environment":
			b.Environment = plain(value)
		case "notSent":
			b.NotSent = string(value) == "true"
		case "names":
			b.Names = value
		}
	})
	if err == nil {
		err = badly
	}
	return b, err
}
