package wire

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"reflect"
	"strings"
	"testing"

	"github.com/fxamacker/cbor/v2"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

func tasks() []plan.Task {
	return []plan.Task{{
		ID: 0, Ref: value.Ref{Kind: "user", Name: "maren"}, Needs: []int{},
		Content: &plan.Content{SHA256: "ab", Size: 3},
		Attrs: value.Attrs{"uid": int64(7), "system": true, "shell": "/bin/sh", "groups": []any{"a", "b"},
			"password": value.NewSecret("salt")},
	}}
}

func TestMessagesComeBackAsTheyWent(t *testing.T) {
	var buf bytes.Buffer
	c := NewConn(&buf, &buf)
	sent := []Message{
		{Start: &Start{Format: 1, Run: plan.Run{ID: "x", Who: "maren@desk"}, Services: true}},
		{Facts: &facts.Facts{OS: facts.OS{ID: "debian", Like: []string{"debian"}},
			Services: map[string]facts.Service{"cron": {Running: true}}, Disks: []facts.Disk{}}},
		{Plan: &Plan{Tasks: tasks(), Last: true}},
		{Chunk: &Chunk{SHA256: "ab", Data: []byte{0, 1}, Last: true}},
		{Results: &Results{List: []plan.Result{{ID: 1, Status: plan.Changed,
			Changes: []plan.Change{{What: "mode", Was: "0644", Becomes: "0640"}}, Took: 5}}}},
		{Bye: &Bye{}},
	}
	for _, m := range sent {
		if err := c.Send(m); err != nil {
			t.Fatal(err)
		}
	}
	for i, want := range sent {
		got, err := c.Receive()
		if err != nil {
			t.Fatal(err)
		}
		if i == 2 {
			if got, _ := got.Plan.Tasks[0].Attrs.Secret("password"); got.Reveal() != "salt" {
				t.Error("the secret did not arrive")
			}
			if !value.Equal(map[string]any(got.Plan.Tasks[0].Attrs), map[string]any(want.Plan.Tasks[0].Attrs)) {
				t.Errorf("the attributes are %#v", got.Plan.Tasks[0].Attrs)
			}
			continue
		}
		if fmt.Sprintf("%+v", reflectAll(got)) != fmt.Sprintf("%+v", reflectAll(want)) {
			t.Errorf("message %d came as %+v", i, reflectAll(got))
		}
	}
	if _, err := c.Receive(); err != io.EOF {
		t.Errorf("at the end it gives %v", err)
	}
	if strings.Contains(fmt.Sprintf("%+v %#v", sent[2].Plan.Tasks, sent[2].Plan.Tasks), "salt") {
		t.Error("printing a task shows its secret")
	}
}

// reflectAll gives what a message points to.
func reflectAll(m Message) any {
	v := reflect.ValueOf(m)
	for i := range v.NumField() {
		if !v.Field(i).IsNil() {
			return v.Field(i).Elem().Interface()
		}
	}
	return nil
}

func TestFramesThatBreakABound(t *testing.T) {
	frame := func(n uint32, body string) string { return string(binary.BigEndian.AppendUint32(nil, n)) + body }
	for name, text := range map[string]string{
		"empty":                    frame(0, ""),
		"huge":                     frame(1<<31, "x"),
		"no CBOR":                  frame(8, "garbage!"),
		"a key twice":              frame(5, "\xa2\x0b\xa0\x0b\xa0"),
		"an indefinite length":     frame(4, "\xbf\x0b\xa0\xff"),
		"nested without end":       frame(64, strings.Repeat("\x81", 63)+"\x00"),
		"an array of many nothing": frame(6, "\xa1\x07\x9a\x7f\xff\xff"),
	} {
		_, err := NewConn(strings.NewReader(text), io.Discard).Receive()
		if !errors.Is(err, ErrFrame) {
			t.Errorf("%s gives %v", name, err)
		}
	}
	if _, err := NewConn(strings.NewReader(frame(9, "abc")), io.Discard).Receive(); err == nil {
		t.Error("a frame that breaks off gives no error")
	}
	if err := NewConn(nil, io.Discard).Send(Message{Chunk: &Chunk{Data: make([]byte, MaxFrame)}}); err == nil {
		t.Error("a message larger than a frame is sent")
	}
}

func TestPartsFitIntoFrames(t *testing.T) {
	var list []plan.Task
	for i := range 300 {
		list = append(list, plan.Task{ID: i, Attrs: value.Attrs{"comment": strings.Repeat("x", 10_000)}})
	}
	parts, err := Parts(list)
	if err != nil || len(parts) < 5 || !parts[len(parts)-1].Last {
		t.Fatalf("%d parts, %v", len(parts), err)
	}
	n := 0
	for i, p := range parts {
		if err := NewConn(nil, io.Discard).Send(Message{Plan: &p}); err != nil {
			t.Error(err)
		}
		if p.Last != (i == len(parts)-1) {
			t.Errorf("part %d says last: %v", i, p.Last)
		}
		n += len(p.Tasks)
	}
	if n != 300 {
		t.Errorf("the parts hold %d tasks", n)
	}
	if _, err := Parts([]plan.Task{{Attrs: value.Attrs{"comment": strings.Repeat("x", MaxFrame)}}}); err == nil {
		t.Error("a task that fits into no frame is taken")
	}
}

func FuzzReceive(f *testing.F) {
	for _, m := range []Message{{Plan: &Plan{Tasks: tasks(), Last: true}}, {Facts: &facts.Facts{}},
		{Want: &Want{SHA256: []string{"ab"}}}} {
		var buf bytes.Buffer
		if err := NewConn(nil, &buf).Send(m); err != nil {
			f.Fatal(err)
		}
		f.Add(buf.Bytes())
	}
	f.Add([]byte{0, 0, 0, 1, 0xf6})
	f.Fuzz(func(t *testing.T, data []byte) {
		c := NewConn(bytes.NewReader(data), io.Discard)
		for {
			m, err := c.Receive()
			if err != nil {
				return
			}
			if err := c.Send(m); err != nil && !errors.As(err, new(*cbor.UnsupportedTypeError)) {
				t.Logf("what came cannot be sent again: %v", err)
			}
			if m.Facts != nil {
				m.Facts.Validate()
			}
		}
	})
}

// FuzzFacts: whatever facts come in a frame, they are refused or can be asked for by name.
func FuzzFacts(f *testing.F) {
	good, err := cbor.Marshal(facts.Facts{Hostname: "gauge-01",
		Own: map[string]any{"a": []any{int64(1), map[string]any{"b": true}}}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add([]byte{0xa1, 0x01, 0x60})
	for _, own := range []any{cbor.Tag{Number: 1, Content: 0}, cbor.Tag{Number: 0, Content: "2026-11-30T00:00:00Z"},
		cbor.Tag{Number: 99, Content: 0},
		cbor.Tag{Number: 2, Content: []byte{1}}, math.NaN(), math.Inf(1), []byte("tide"), cbor.SimpleValue(99),
		uint64(1 << 63)} {
		odd, err := cbor.Marshal(map[string]any{"own": map[string]any{"a": own}})
		if err != nil {
			f.Fatal(err)
		}
		f.Add(odd)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		var got facts.Facts
		if Unmarshal(data, &got) != nil || got.Validate() != nil {
			return
		}
		if got.Tree() == nil {
			t.Error("facts that are good have no tree")
		}
		if _, err := json.Marshal(got.Tree()); err != nil {
			t.Errorf("facts that are good are no document: %v", err)
		}
	})
}
