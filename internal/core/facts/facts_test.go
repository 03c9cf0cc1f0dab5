package facts

import (
	"strings"
	"testing"
)

func TestTheSchemaDocumentsEverything(t *testing.T) {
	seen := map[string]bool{}
	for _, f := range Schema() {
		if f.Doc == "" || f.Path == "" || strings.HasSuffix(f.Path, ".") || seen[f.Path] {
			t.Errorf("the field %+v is not documented well", f)
		}
		seen[f.Path] = true
		if !strings.ContainsAny(f.Path, "[*") {
			if err := CheckPath(strings.Split(f.Path, ".")); err != nil {
				t.Error(err)
			}
		}
	}
	if len(seen) < 35 {
		t.Errorf("only %d fields are reported", len(seen))
	}
}

func TestTheTreeHasWhatTheSchemaSays(t *testing.T) {
	f := &Facts{Services: map[string]Service{"cron": {Running: true}}, Disks: []Disk{{Name: "vda", Size: 7}}}
	tree := f.Tree()
	for _, field := range Schema() {
		if strings.ContainsAny(field.Path, "[*") {
			continue
		}
		var at any = tree
		for _, name := range strings.Split(field.Path, ".") {
			at = at.(map[string]any)[name]
		}
		if at == nil {
			t.Errorf("the tree has no %s", field.Path)
		}
	}
	if got := tree["services"].(map[string]any)["cron"].(map[string]any)["running"]; got != true {
		t.Errorf("services.cron.running is %v", got)
	}
}

func TestFactsThatLie(t *testing.T) {
	for name, f := range map[string]*Facts{
		"a control character": {Hostname: "a\x1bb"},
		"an endless text":     {Hostname: strings.Repeat("a", 5000)},
		"an endless list":     {OS: OS{Like: make([]string, 5000)}},
		"a negative size":     {Memory: Memory{Total: -1}},
		"a bad map key":       {Services: map[string]Service{"a\nb": {}}},
	} {
		if f.Validate() == nil {
			t.Errorf("%s is taken", name)
		}
	}
}
