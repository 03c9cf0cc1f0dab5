package run_test

import (
	"bytes"
	"encoding/json"
	"io"
	"math"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/host/worker"
)

// lies makes values out of the bytes of a fuzz test, such as no worker would send.
type lies struct{ from []byte }

func (l *lies) next() int {
	if len(l.from) == 0 {
		return 0
	}
	b := l.from[0]
	l.from = l.from[1:]
	return int(b)
}

var (
	liedTexts = []string{"", "/srv/a", "dir", "file", "changed", "failed", "unchanged", "blocked", "skipped",
		"restart", "\x1b[2J", "a\u202eb\x00", "host",
		strings.Repeat("/x", 5000), "</script>", "mode"}
	liedNumbers = []int64{0, 1, -1, 2, 7, math.MaxInt64, math.MinInt64, 1 << 40}
	liedValues  = []any{nil, true, int64(-1), "tide", 1.5, math.NaN(), math.Inf(-1), time.Unix(0, 0), []byte("tide"),
		cbor.Tag{Number: 2, Content: []byte{1}},
		cbor.SimpleValue(99), []any{map[string]any{"a": []any{}}}, cbor.Tag{Number: 4211701, Content: "brine"},
		map[string]any{"\x1b": "x"}}
)

// fill gives a value something out of the bytes.
func (l *lies) fill(v reflect.Value, deep int) {
	n := l.next()
	switch v.Kind() {
	case reflect.Bool:
		v.SetBool(n%2 == 1)
	case reflect.Int, reflect.Int64:
		v.SetInt(liedNumbers[n%len(liedNumbers)])
	case reflect.String:
		v.SetString(liedTexts[n%len(liedTexts)])
	case reflect.Interface:
		if x := liedValues[n%len(liedValues)]; x != nil {
			v.Set(reflect.ValueOf(x))
		}
	case reflect.Pointer:
		if deep > 0 && n%4 > 0 {
			v.Set(reflect.New(v.Type().Elem()))
			l.fill(v.Elem(), deep-1)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() && l.next()%3 == 0 {
				l.fill(v.Field(i), deep-1)
			}
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), n%4, n%4))
		for i := range v.Len() {
			l.fill(v.Index(i), deep-1)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		for range n % 3 {
			key, item := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
			l.fill(key, deep-1)
			l.fill(item, deep-1)
			v.SetMapIndex(key, item)
		}
	}
}

// message is an honest one now and then, so that the talk gets further.
func (l *lies) message() wire.Message {
	var m wire.Message
	switch n := l.next(); n % 8 {
	case 0:
		m.Facts = &facts.Facts{OS: facts.OS{ID: "debian"}}
	case 1:
		m.Results = &wire.Results{List: []plan.Result{{Ref: value.Ref{Kind: "dir", Name: "/srv/a"},
			Status: plan.Changed}}}
	case 2:
		m.Done = &wire.Done{}
	default:
		of := reflect.ValueOf(&m).Elem().Field(l.next() % reflect.TypeFor[wire.Message]().NumField())
		of.Set(reflect.New(of.Type().Elem()))
		l.fill(of.Elem(), 8)
	}
	return m
}

// FuzzWhatAHostSays lets a host say anything, in any order: it can have its own visit fail and nothing else. Whoever
// is not lost has reported all its tasks, and each visit has a report.
func FuzzWhatAHostSays(f *testing.F) {
	f.Add([]byte{0, 1, 2})
	f.Add([]byte{0, 3, 10})
	f.Add([]byte{0, 1, 3, 9, 0, 0, 0, 0, 0, 2})
	b := newBench(f, "gauge-01")
	b.manifest("[dir.\"/srv/a\"]\n[dir.\"/srv/b\"]\n")
	b.limits = run.Limits{Facts: time.Second, Task: time.Second, Bye: time.Second}
	var said []byte
	b.host().Answer = func(in io.Reader, out io.Writer, nonce string) {
		var all bytes.Buffer
		c := wire.NewConn(nil, &all)
		c.Send(wire.Message{Hello: &wire.Hello{Format: wire.Format}})
		for l := (&lies{said}); len(l.from) > 0; {
			c.Send(l.message())
		}
		io.WriteString(out, worker.Ready(nonce))
		out.Write(all.Bytes())
	}
	fleet, id := b.fleet(), b.id(false)
	f.Fuzz(func(t *testing.T, bytes []byte) {
		if said = bytes; len(bytes) > 400 {
			return
		}
		out := fleet.Run(t.Context(), fleet.Plans.Project.Inventory.Hosts, id)
		for _, h := range out {
			if strings.Contains(h.Message, "a mistake in this program") {
				t.Errorf("%s", h.Message)
			}
			if h.State == record.Reached && len(h.Tasks) < h.Planned && !h.Stopped {
				t.Errorf("it reported %d of %d tasks, and is not lost", len(h.Tasks), h.Planned)
			}
		}
		if _, err := json.Marshal(&record.Run{Hosts: out}); err != nil {
			t.Errorf("no report: %v", err)
		}
	})
}
