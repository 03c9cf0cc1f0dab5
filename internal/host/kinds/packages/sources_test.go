package packages_test

import (
	"reflect"
	"strings"
	"testing"

	"jadekettle/internal/host/kinds/packages/apt"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/kinds/packages/dnf"
	"jadekettle/internal/host/kinds/packages/zypper"
)

// TestSourcesAreReadBack reads what each manager's files say, and leaves those that
// say more to be captured as files.
func TestSourcesAreReadBack(t *testing.T) {
	deb := backend.Source{Name: "tides", URLs: []string{"https://packages.example.org/debian"},
		Suites:     []string{"bookworm"},
		Components: []string{"main", "wet"}, Architectures: []string{"amd64"}, Key: "a key"}
	rpm := backend.Source{Name: "tides", About: "Tides", URLs: []string{"https://a.example.org/",
		"https://b.example.org/"}}
	signed := rpm
	signed.Key = "a key"
	for _, c := range []struct {
		by   backend.Repositories
		want backend.Source
		more string // that makes it say more
	}{
		{apt.Manager{}, deb, "Enabled: no\n"},
		{dnf.Manager{}, rpm, "priority=5\n"},
		{dnf.Manager{}, signed, "[other]\n"},
		{zypper.Manager{}, rpm, "enabled=0\n"},
	} {
		source, key := c.by.SourceFiles(c.want)
		got, keyFile, ok := c.by.ParseSource("tides", source.Text)
		want := c.want
		if want.Key = ""; !ok || !reflect.DeepEqual(got, want) || keyFile != "" && keyFile != key.Path ||
			(keyFile == "") != (c.want.Key == "") {
			t.Errorf("%T reads %+v, %q, %v, want %+v", c.by, got, keyFile, ok, want)
		}
		if folder, suffix := c.by.Sources(); source.Path != folder+"tides"+suffix {
			t.Errorf("%T writes %s, and looks for %s*%s", c.by, source.Path, folder, suffix)
		}
		for _, text := range []string{source.Text + c.more, "", strings.ReplaceAll(source.Text, "https", "\nhttps")} {
			if _, _, ok := c.by.ParseSource("tides", text); ok {
				t.Errorf("%T takes %q", c.by, text)
			}
		}
	}
}
