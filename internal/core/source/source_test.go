package source

import (
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

func files() fstest.MapFS {
	return fstest.MapFS{
		"sources/tide/manifests/relay.toml": {Data: []byte("[group.tide]\n"), Mode: 0o644},
		"sources/tide/bin/check":            {Data: []byte("#!/bin/sh\n"), Mode: 0o755},
	}
}

func TestHash(t *testing.T) {
	base, err := Hash(files(), "sources/tide")
	if err != nil || !strings.HasPrefix(base, "sha256:") {
		t.Fatal(base, err)
	}
	inside, err := fs.Sub(files(), "sources/tide")
	if err != nil {
		t.Fatal(err)
	}
	top, err := Hash(inside, ".")
	if err != nil || top != base {
		t.Errorf("the place of a copy changes its hash: %s and %s (%v)", base, top, err)
	}
	for name, change := range map[string]func(fstest.MapFS){
		"a byte":      func(m fstest.MapFS) { m["sources/tide/bin/check"].Data = []byte("#!/bin/Sh\n") },
		"a right":     func(m fstest.MapFS) { m["sources/tide/bin/check"].Mode = 0o644 },
		"a file more": func(m fstest.MapFS) { m["sources/tide/x"] = &fstest.MapFile{} },
		"a file less": func(m fstest.MapFS) { delete(m, "sources/tide/bin/check") },
		"a file elsewhere": func(m fstest.MapFS) {
			m["sources/tide/bin/chekc"] = m["sources/tide/bin/check"]
			delete(m, "sources/tide/bin/check")
		},
	} {
		m := files()
		change(m)
		if got, err := Hash(m, "sources/tide"); got == base || err != nil {
			t.Errorf("%s changes nothing (%v)", name, err)
		}
	}
	m := files()
	m["sources/tide/link"] = &fstest.MapFile{Mode: fs.ModeSymlink | 0o777, Data: []byte("/etc/shadow")}
	if _, err := Hash(m, "sources/tide"); err == nil {
		t.Error("a link is taken for a file")
	}
}

func TestLoad(t *testing.T) {
	hash, _ := Hash(files(), "sources/tide")
	pin := Pin{Name: "tide", URL: "https://git.example.org/tide.git", At: "v1.2",
		Commit: strings.Repeat("ab", 20), Hash: hash}
	lock := string(Write([]Pin{pin, {Name: "a.b", URL: "x", At: "main", Commit: pin.Commit, Hash: hash}}))
	var ps problem.Problems
	back := Read(fstest.MapFS{LockFile: {Data: []byte(lock)}}, &ps)
	pin.Place = value.Place{File: LockFile, Line: 10, Col: 9}
	if len(back) != 2 || back[0].Name != "a.b" || back[1] != pin || ps.Err() != nil {
		t.Errorf("what is written is read as %+v (%v)", back, ps.Err())
	}
	good := string(Write([]Pin{pin}))
	for text, want := range map[string]string{
		good: "",
		strings.Replace(good, "[source.tide]", "[source.other]",
			1): "the source \"other\" is pinned, but sources/other does not exist",
		strings.Replace(good, hash, "sha256:"+strings.Repeat("0", 64), 1): "the copy in sources/tide does not " +
			"match its pin",
		strings.Replace(good, "commit = \"ab", "commit = \"AB", 1): `the pin of "tide" is incomplete`,
		strings.Replace(good, "format = 1", "format = 2", 1):       "the format of this file is not 1",
		good + "[sauce.x]\n": `unknown key "sauce" in a lock file`,
		"":                   "sources/tide has no pin in sources.lock",
	} {
		m := files()
		if text != "" {
			m[LockFile] = &fstest.MapFile{Data: []byte(text)}
		}
		var ps problem.Problems
		got := Load(m, Read(m, &ps), &ps)
		if want == "" && (ps.Err() != nil || got["tide"] != "sources/tide") || !strings.Contains(ps.Error(), want) {
			t.Errorf("%s\n gives %v, %s\nwant %s", text, got, ps.Error(), want)
		}
	}
}
