package worker

import (
	"context"
	"fmt"
	"strconv"
	"unicode/utf8"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/ledger"
)

// maxCaptured bounds what one message holds, in bytes of text.
const maxCaptured = 512 << 10

// capture sends what is there, and changes nothing: it takes no lock.
func (s *session) capture(ctx context.Context, asked []value.Ref) error {
	var list []plan.Captured
	for _, ref := range asked {
		list = append(list, s.captureOne(ctx, ref)...)
	}
	for i, c := range list {
		if !utf8.ValidString(fmt.Sprint(c.Ref.Name, c.Attrs, c.Note, c.Problem, c.Do, c.Files)) {
			list[i] = plan.Captured{Ref: sayable(c.Ref), Problem: "its name or content is not valid UTF-8",
				Do: "declare it by hand"}
		}
	}
	start, total := 0, 0
	for i, c := range list {
		n := 64 + len(c.Ref.Name) + len(c.Note) + len(c.Problem) + len(c.Do) + len(c.Bytes)
		for k, v := range c.Attrs {
			n += len(k) + len(fmt.Sprint(v)) + 16
		}
		if total+n > maxCaptured && i > start {
			if s.send(wire.Message{Captured: &wire.Captured{List: list[start:i]}}) != nil {
				return errLost
			}
			start, total = i, 0
		}
		total += n
	}
	return s.send(wire.Message{Captured: &wire.Captured{List: list[start:], Last: true}})
}

func (s *session) captureOne(ctx context.Context, ref value.Ref) []plan.Captured {
	fail := func(err error) []plan.Captured { return []plan.Captured{failed(ref, err)} }
	k, ok := kinds.Find(ref.Kind)
	if !ok {
		return fail(fmt.Errorf("this worker does not know the kind %q", ref.Kind))
	}
	env := &kind.Env{Machine: s.m, Store: &ledger.Store{}}
	names := []string{ref.Name}
	if ref.Name == "" {
		var err error
		if names, err = k.Names(ctx, env); err != nil {
			return fail(err)
		}
	}
	for i, name := range names {
		env.Tasks = append(env.Tasks, plan.Task{ID: i, Ref: value.Ref{Kind: ref.Kind, Name: name},
			Attrs: value.Attrs{}})
	}
	var out []plan.Captured
	for i, reading := range k.Read(ctx, env, env.Tasks) {
		t := env.Tasks[i]
		c, err := plan.Captured{}, reading.Err
		if err == nil {
			c, err = k.Capture(ctx, env, t, reading.State)
		}
		c.Ref = t.Ref
		if err != nil {
			c = failed(t.Ref, err)
		}
		if ref.Name == "" {
			withhold(&c)
		}
		out = append(out, c)
	}
	return out
}

// secretText is what private keys and stored passwords look like: the first line
// of PEM (RFC 7468) and of OpenSSH's keys, an age identity, and crypt(5).
var secretText = lazy.Regexp(`-----BEGIN [A-Z0-9 ]*PRIVATE KEY|AGE-SECRET-KEY-1|` +
	`\$(?:1|2[abxy]|5|6|7|y|gy|argon2[a-z]*)\$[./A-Za-z0-9,=$+-]{8}`)

// withhold leaves out what nobody asked for by name and others are not to read: what
// only its owner may read, and what holds a private key or a stored password.
func withhold(c *plan.Captured) {
	content, _ := c.Attrs["content"].(string)
	mode, _ := c.Attrs["mode"].(string)
	why := ""
	if bits, err := strconv.ParseUint(mode, 8, 32); err == nil && bits&0o077 == 0 && c.Ref.Kind == "file" {
		why = "only its owner may read it"
	}
	if secretText().MatchString(content) || secretText().Match(c.Bytes) {
		why = "it contains a private key or a password hash"
	}
	if why != "" {
		*c = plan.Captured{Ref: c.Ref, Problem: why, Guarded: true}
	}
}

func failed(ref value.Ref, err error) plan.Captured {
	p := problem.From(err)
	return plan.Captured{Ref: ref, Problem: p.What, Do: p.Do}
}
