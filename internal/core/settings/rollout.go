package settings

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/manifest"
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
)

// Amount is a number of hosts, or a share of them. The zero Amount is none.
type Amount struct {
	N     int
	Share bool // N is in percent
}

// ParseAmount reads a number such as 5, or a share such as 20%.
func ParseAmount(s string) (Amount, error) {
	text, share := strings.CutSuffix(strings.TrimSpace(s), "%")
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 1_000_000 || share && n > 100 {
		return Amount{}, problem.Errorf("invalid number of hosts %q", s).
			Remedy(`use a number such as 5, or a percentage such as "20%%"`)
	}
	return Amount{n, share}, nil
}

// Of gives how many of so many hosts that is, at least one; 0 for the zero Amount.
func (a Amount) Of(hosts int) int {
	if !a.Share {
		return a.N
	}
	return max(1, (hosts*a.N+99)/100)
}

// String writes it as ParseAmount reads it.
func (a Amount) String() string {
	if a.Share {
		return fmt.Sprintf("%d%%", a.N)
	}
	return strconv.Itoa(a.N)
}

// ByKey is the pause that lasts until somebody presses a key.
const ByKey = "key"

// Rollout is how an apply goes over many hosts.
type Rollout struct {
	First     string // hosts that go before all others: targets with commas between, or a number; empty for none
	Batch     Amount // how many go at a time after those; none is all
	Pause     string // before each further batch: a length of time, or ByKey; empty for none
	StopAfter Amount // how many failed hosts end it; none is any of a batch, before the next
}

// rolloutKeys are the keys that say so, with what each means.
var rolloutKeys = []struct {
	name  string
	takes schema.Takes
	doc   string
}{
	{"first", schema.TakesCount, "The hosts to apply to first, alone: comma-separated targets, or a count."},
	{"batch", schema.TakesCount, "The batch size of an apply: a number of hosts, or a percentage such as \"20%\"."},
	{"pause", schema.TakesText, "The wait between batches: a duration, or \"key\" to wait for a keypress."},
	{"stop_after", schema.TakesCount, "Stop starting new hosts after this many have failed: a number, or a " +
		"percentage such as \"5%\"."},
}

// Fields adds where the keys go that say so.
func (r *Rollout) Fields(into manifest.Fields) {
	amount := func(to *Amount) func(*manifest.Node) error {
		return func(n *manifest.Node) (err error) {
			*to, err = ParseAmount(written(n))
			return err
		}
	}
	into["batch"], into["stop_after"] = amount(&r.Batch), amount(&r.StopAfter)
	into["first"] = func(n *manifest.Node) error {
		if r.First = written(n); r.First == "" {
			return problem.Errorf("first must be a string or a number").Remedy(`write first = "..."`)
		}
		return nil
	}
	into["pause"] = func(n *manifest.Node) (err error) {
		r.Pause = written(n)
		_, err = ParsePause(r.Pause)
		return err
	}
}

// written gives a text or a number as text.
func written(n *manifest.Node) string {
	if i, is := n.Value.(int64); is {
		return strconv.FormatInt(i, 10)
	}
	text, _ := n.Value.(string)
	return text
}

// ParsePause reads a pause; 0 is one that lasts until a key is pressed.
func ParsePause(s string) (time.Duration, error) {
	if s == ByKey {
		return 0, nil
	}
	d, err := measure.ParseDuration(s)
	if err != nil || d == 0 {
		return 0, problem.Errorf("invalid pause %q", s).
			Remedy(`use a duration such as "90s" or "10m", or "key" to wait for a keypress`)
	}
	return d, nil
}

// Over lays what an environment or a job says over what holds for all.
func (r Rollout) Over(general Rollout) Rollout {
	if r.First == "" {
		r.First = general.First
	}
	if r.Batch.N == 0 {
		r.Batch = general.Batch
	}
	if r.Pause == "" {
		r.Pause = general.Pause
	}
	if r.StopAfter.N == 0 {
		r.StopAfter = general.StopAfter
	}
	return r
}
