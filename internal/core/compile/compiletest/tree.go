// Package compiletest makes small projects for tests.
package compiletest

import (
	"strings"
	"testing/fstest"
)

// Tree is a project of one host, gauge-01, whose one file /out shows what an
// expression gives. The files, a name and a text each, come in the place of its
// own; with a plus before the name the text goes behind what is there.
func Tree(files ...string) fstest.MapFS {
	fs := fstest.MapFS{
		"jadekettle.toml": {Data: []byte("project = \"test\"\n")},
		"hosts.toml": {Data: []byte(`[host.gauge-01]
site = "pier"
[group.all]
members = ["*"]
manifests = ["gauge"]
[group.north]
inside = "all"
members = ["*"]
`)},
		"manifests/gauge.toml": {Data: []byte("[param.seconds]\ntype = \"int\"\nfrom = \"data.gauge.seconds\"\n" +
			"default = 60\nmin = 1\n[file.\"/out\"]\ncontent = \"${string(param.seconds)}\"\n")},
		"data/shared.toml": {Data: []byte("list = [\"a\", \"b\"]\n")},
	}
	for i := 0; i+1 < len(files); i += 2 {
		if strings.HasPrefix(files[i], "+") {
			have := fs[files[i][1:]]
			fs[files[i][1:]] = &fstest.MapFile{Data: append(append([]byte{}, have.Data...), files[i+1]...)}
			continue
		}
		fs[files[i]] = &fstest.MapFile{Data: []byte(files[i+1])}
	}
	return fs
}
