package user

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// keyTypes are what the public keys that OpenSSH knows begin with; see sshd(8),
// "AUTHORIZED_KEYS FILE FORMAT".
var keyTypes = []string{"ssh-ed25519", "ssh-rsa", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521",
	"sk-ssh-ed25519@openssh.com", "sk-ecdsa-sha2-nistp256@openssh.com"}

// keyOf gives the key of a line of authorized_keys, without its options and its
// comment; "" for a line that holds none.
func keyOf(line string) string {
	line = strings.TrimSpace(line)
	if line == "" || line[0] == '#' {
		return ""
	}
	words := keyWords(line)
	i := slices.IndexFunc(words, func(w string) bool { return slices.Contains(keyTypes, w) })
	if i < 0 || i > 1 || i+1 >= len(words) {
		return ""
	}
	blob, err := base64.StdEncoding.DecodeString(words[i+1])
	if err != nil || len(blob) < 4 {
		return ""
	}
	n := binary.BigEndian.Uint32(blob) // RFC 4253, 6.6: the type comes first
	if int64(n) > int64(len(blob)-4) || string(blob[4:4+n]) != words[i] {
		return ""
	}
	return words[i] + " " + words[i+1]
}

// keyWords splits a line at white space that is outside of quotes.
func keyWords(line string) []string {
	var out []string
	quoted, word := false, ""
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case c == '\\' && quoted && i+1 < len(line) && line[i+1] == '"':
			word += `\"`
			i++
		case c == '"':
			quoted = !quoted
			word += `"`
		case (c == ' ' || c == '\t') && !quoted:
			if word != "" {
				out = append(out, word)
			}
			word = ""
		default:
			word += string(c)
		}
	}
	if word != "" {
		out = append(out, word)
	}
	return out
}

// checkKeys refuses lines that are no keys.
func checkKeys(a value.Attrs) error {
	seen := map[string]bool{}
	for _, line := range a.Texts("keys") {
		key := keyOf(line)
		switch {
		case strings.ContainsAny(line, "\r\n"):
			return problem.Errorf("a key has several lines").Remedy("list each key separately")
		case strings.Contains(line, "PRIVATE KEY"):
			return problem.Errorf("the keys contain a private key").
				Remedy("use the public key, from the file that ends in .pub")
		case key == "":
			return problem.Errorf("invalid public key %q", clip(line)).
				Remedy("paste the whole line of a .pub file, with options before it if needed")
		case seen[key]:
			return problem.Errorf("the key %q is listed twice", clip(line)).Remedy("keep one of them")
		}
		seen[key] = true
	}
	if a.Bool("only_keys") && !a.Has("keys") {
		return problem.Errorf("only_keys requires keys").Remedy("list the keys; keys = [] removes all")
	}
	return nil
}

func clip(s string) string {
	if len(s) > 60 {
		return s[:60] + "..."
	}
	return s
}

// keysFile is where sshd(8) looks for a user's keys by default.
func keysFile(home string) string { return path.Join(home, ".ssh", "authorized_keys") }

// readKeys reads the file with the user's own rights: what a link there leads to
// is only read if the user might.
func readKeys(env *kind.Env, t plan.Task, st *state) error {
	if !t.Attrs.Has("keys") {
		return nil
	}
	rights, err := env.Rights(t.Ref.Name)
	if err != nil {
		return err
	}
	err = env.Machine.As(*rights, func() error {
		st.keys, err = env.ReadText(keysFile(st.user.Home))
		return err
	})
	if errors.Is(err, kind.ErrNotYet) { // no .ssh, or not even a home
		st.keys, err = kind.Text{Path: keysFile(st.user.Home)}, nil
	}
	return err
}

// wantedKeys is what the file is to hold: a declared key is in its line as
// declared, and with only_keys no other is at all.
func wantedKeys(t plan.Task, text string) string {
	l := kind.SplitLines(text)
	declared := t.Attrs.Texts("keys")
	of := func(key string) int {
		return slices.IndexFunc(declared, func(d string) bool { return keyOf(d) == key })
	}
	var out []string
	done := map[int]bool{}
	for _, line := range l.List {
		key := keyOf(line)
		i := -1
		if key != "" {
			i = of(key)
		}
		switch {
		case key == "":
			out = append(out, line)
		case i < 0 && !t.Attrs.Bool("only_keys"):
			out = append(out, line)
		case i >= 0 && !done[i]:
			out, done[i] = append(out, strings.TrimSpace(declared[i])), true
		}
	}
	for i, line := range declared {
		if !done[i] {
			out = append(out, strings.TrimSpace(line))
		}
	}
	l.List = out
	return l.String()
}

// compareKeys lists each key that comes or goes.
func compareKeys(t plan.Task, st state) []plan.Change {
	if !t.Attrs.Has("keys") {
		return nil
	}
	was, becomes := kind.SplitLines(st.keys.Text).List, kind.SplitLines(wantedKeys(t, st.keys.Text)).List
	var out []plan.Change
	for _, line := range becomes {
		if !slices.Contains(was, line) {
			out = append(out, plan.Change{What: "keys", Becomes: comment(line)})
		}
	}
	for _, line := range was {
		if keyOf(line) != "" && !slices.Contains(becomes, line) {
			out = append(out, plan.Change{What: "keys", Was: comment(line), Becomes: "removed"})
		}
	}
	return out
}

// comment is how people distinguish keys: the type, the end of the key, and what
// is behind it.
func comment(line string) string {
	words := keyWords(line)
	i := slices.IndexFunc(words, func(w string) bool { return slices.Contains(keyTypes, w) })
	if i < 0 || i+1 >= len(words) {
		return line
	}
	end := words[i+1]
	parts := []string{words[i], "..." + end[max(0, len(end)-12):], strings.Join(words[i+2:], " ")}
	if i == 1 {
		parts = append([]string{words[0]}, parts...)
	}
	return strings.TrimSpace(strings.Join(parts, " "))
}

// writeKeys writes the file, and its folder, with the user's own rights.
func writeKeys(ctx context.Context, env *kind.Env, t plan.Task) error {
	a, err := env.Accounts()
	if err != nil {
		return err
	}
	u, ok := a.User(t.Ref.Name)
	if !ok {
		return errors.New("the account no longer exists")
	}
	rights, err := env.Rights(t.Ref.Name)
	if err != nil {
		return err
	}
	if err := env.Machine.As(*rights, func() error { return makeFolder(env.Machine, u.Home) }); err != nil {
		return err
	}
	st := state{user: u}
	if err := readKeys(env, t, &st); err != nil {
		return err
	}
	return env.WriteTextAs(ctx, t, st.keys, wantedKeys(t, st.keys.Text), 0o600, "", rights)
}

func makeFolder(m machine.Machine, home string) error {
	d, err := m.Dir(home)
	if errors.Is(err, fs.ErrNotExist) {
		return problem.Errorf("the home directory %s does not exist", home).
			Remedy("declare it: [dir.%q], with its owner", home)
	}
	if err != nil {
		return err
	}
	defer d.Close()
	if _, err := d.Lstat(".ssh"); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return d.Mkdir(".ssh", 0o700, -1, -1)
}
