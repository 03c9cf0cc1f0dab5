package survey

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"sync"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/value"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/machine"
)

// OwnFolder is where custom facts lie on a host: NAME.json, or NAME.txt.
// Only what root alone can write counts.
const OwnFolder = "/etc/jadekettle/facts"

// maxOwn bounds one custom fact, in bytes.
const maxOwn = 64 << 10

// own runs the commands that are asked for, all at once, and reads the files.
func own(ctx context.Context, m machine.Machine, asked *wire.Start) (got map[string]any, wrong map[string]string) {
	got, wrong = map[string]any{}, map[string]string{}
	var mu sync.Mutex
	note := func(name string, v any, err error) {
		if err == nil {
			err = fits(name, v)
		}
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			wrong[name] = clean(err.Error())
			return
		}
		got[name] = v
	}
	if asked.OwnFiles {
		files(m, note)
	}
	var wg sync.WaitGroup
	for _, f := range asked.Own {
		wg.Go(func() {
			v, err := said(ctx, m, f)
			note(f.Name, v, err)
		})
	}
	wg.Wait()
	return got, wrong
}

// fits holds a fact to the bounds that the controller holds all facts to, so
// that one that breaks them does not cost the host its run.
func fits(name string, v any) error {
	one := facts.Facts{Own: map[string]any{name: v}}
	return one.Validate()
}

// clean makes a reason fit for the controller.
func clean(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
	return s[:min(len(s), 500)]
}

// said gives what a command says.
func said(ctx context.Context, m machine.Machine, f wire.OwnFact) (any, error) {
	out, err := machine.Do(ctx, m, machine.Command{Args: f.Args, Limit: f.Limit}, nil)
	if err != nil {
		return nil, err
	}
	return meant(out.Stdout, f.Text)
}

// meant reads a fact as JSON, or else as text.
func meant(text string, asText bool) (any, error) {
	if len(text) > maxOwn {
		return nil, fmt.Errorf("its output has %d bytes, more than %d", len(text), maxOwn)
	}
	if !asText {
		if v, err := parse([]byte(text)); err == nil {
			return v, nil
		}
	}
	text = strings.ReplaceAll(strings.TrimSpace(strings.ToValidUTF8(text, "?")), "\r\n", "\n")
	if strings.Contains(text, "\n") { // of which no fact holds any
		var lines []any
		for line := range strings.Lines(text) {
			lines = append(lines, strings.TrimRight(line, "\n"))
		}
		return lines, nil
	}
	return text, nil
}

// parse reads one JSON value; whole numbers are int64.
func parse(data []byte) (any, error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("there is more than one JSON value")
	}
	return value.FromJSON(v), nil
}

// files reads the facts that lie on the host.
func files(m machine.Machine, note func(string, any, error)) {
	names, err := m.ReadDir(OwnFolder)
	if err != nil {
		return
	}
	for _, file := range names[:min(len(names), most)] {
		name, isJSON := strings.CutSuffix(file, ".json")
		if !isJSON {
			var isText bool
			if name, isText = strings.CutSuffix(file, ".txt"); !isText {
				continue
			}
		}
		text, err := trusted(m, file)
		if err != nil {
			note(name, nil, err)
			continue
		}
		if isJSON {
			v, err := parse([]byte(text))
			note(name, v, err)
			continue
		}
		v, err := meant(text, true)
		note(name, v, err)
	}
}

// trusted reads a file that nobody but root, or the worker's user, can write.
func trusted(m machine.Machine, file string) (string, error) {
	d, err := m.Dir(OwnFolder)
	if err != nil {
		return "", err
	}
	defer d.Close()
	f, err := d.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	folder, err := d.Lstat(".")
	if err != nil {
		return "", err
	}
	info, err := f.Info()
	if err != nil {
		return "", err
	}
	if !folder.OnlyBy(m.UID()) || !info.OnlyBy(m.UID()) {
		return "", fmt.Errorf("users other than root can write to %s", path.Join(OwnFolder, file))
	}
	data, err := io.ReadAll(io.LimitReader(f, maxOwn+1))
	if err == nil && len(data) > maxOwn {
		err = fmt.Errorf("it contains more than %d bytes", maxOwn)
	}
	return string(data), err
}
