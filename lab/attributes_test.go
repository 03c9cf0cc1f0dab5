//go:build lab

package lab

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"jadekettle/internal/core/schema"
	"jadekettle/internal/host/kinds"
)

// trial is how attributes are tried on a real host, each at its own things, so that all trials go
// through one round together. Shell lines run on gauge-01 as root.
type trial struct {
	Of      string            // what it is about: "kind.attribute", with spaces between several
	Before  string            // arranges the host; may be empty
	Declare string            // the manifest
	Files   map[string]string // beside it
	Look    string            // asks the host's own programs
	Says    string            // what look is to print once it is as declared
	Breaks  [2]string         // each makes it otherwise; none where nothing can be read back
	Away    string            // takes away what a kind without absent leaves; may be empty
	Left    string            // what look prints then; empty where it is to print no more what it did
}

// triedElsewhere are attributes that one host, or one round, cannot show, and the tests that do.
var triedElsewhere = map[string]string{
	"swap":           "TestSwapOfThisMachine",
	"package.sha256": "download.sha256, whose code it is",
	"unpack.sha256":  "likewise",
	"swap.size":      "TestSwapOfThisMachine", "swap.priority": "TestSwapOfThisMachine",
	"kmod.loaded":           "TestNothingHalfDone: a container may load no modules",
	"reboot.only_if_exists": "TestARebootOfRealHosts", "reboot.timeout": "TestARebootOfRealHosts",
	"repo.components": "managers: the lab's repository is flat, and has none", "repo.architectures": "likewise",
	"firewall.may_close_our_port": "TestNeverLockedOutOfRealHosts",
	"user.system": "it says how an account is made, and is not a state of one: " +
		"TestEveryKindOnRealHosts",
	"group.system":  "likewise",
	"package.proxy": "TestDownloads in kinds/fetch", "download.proxy": "likewise",
	"unpack.proxy":                      "likewise",
	"checkout.ssh_key":                  "TestWaysIntoRealHosts: it is read by ssh alone",
	"package.headers":                   "download.headers, whose code it is",
	"unpack.headers":                    "likewise",
	"probe.certificate_days":            "kinds/probe: the lab has no certificates",
	"probe.trust_any_certificate":       "likewise",
	"command.show_output":               "TestWhatIsClosedIsNotShown: nothing of it is on the host",
	"package.fetch_limit":               "a limit changes nothing where all is well: TestTriesAndLimits",
	"download.fetch_limit":              "likewise",
	"unpack.fetch_limit":                "likewise",
	"checkout.fetch_limit":              "likewise",
	"service.start_limit":               "likewise",
	"command.timeout":                   "likewise",
	"probe.every":                       "likewise",
	"probe.within":                      "likewise",
	schema.Timeout:                      "likewise",
	schema.Retries:                      "likewise",
	schema.RetryEvery:                   "likewise",
	"about":                             "it is for people",
	schema.Labels:                       "TestAPartOfThePlan: it selects, and changes nothing",
	"lines.add":                         "its fields",
	"package.insecure_without_checksum": "download.insecure_without_checksum, whose code it is",
}

// TestEveryAttributeHasATrial: a new attribute wants a case.
func TestEveryAttributeHasATrial(t *testing.T) {
	tried := map[string]bool{}
	for _, tr := range trials {
		for _, name := range strings.Fields(tr.Of) {
			tried[name] = true
		}
	}
	want := func(name string) {
		if !tried[name] && triedElsewhere[name] == "" {
			t.Errorf("%s has no trial", name)
		}
	}
	known := map[string]bool{}
	for _, k := range kinds.All() {
		for _, a := range schema.Spread(k.Schema().Attrs) {
			known[k.Schema().Name+"."+a.Name] = true
			want(k.Schema().Name + "." + a.Name)
		}
		known[k.Schema().Name] = true
		if k.Schema().NoAbsent == "" { // itself, made and taken away
			want(k.Schema().Name)
		}
	}
	for _, a := range schema.Common {
		known[a.Name] = true
		if a.Name != "absent" {
			want(a.Name)
		}
	}
	for name := range tried {
		if !known[name] {
			t.Errorf("a trial is about %s, which is not an attribute", name)
		}
	}
}

// part says which trials this run takes: LAB_TRIALS is "all", attributes with commas, or, as where it
// is not set, a tenth of them, another one each day: all of them take five minutes.
func part() []trial {
	switch want := os.Getenv("LAB_TRIALS"); want {
	case "all":
		return trials
	case "":
		var out []trial
		turn := int(time.Now().Unix()/86400) % 10
		for i, tr := range trials {
			if i%10 == turn {
				out = append(out, tr)
			}
		}
		return out
	default:
		return slices.DeleteFunc(slices.Clone(trials), func(tr trial) bool {
			return !slices.ContainsFunc(strings.Fields(tr.Of),
				func(n string) bool { return slices.Contains(strings.Split(want, ","), n) })
		})
	}
}

// listing is what a run could have touched: every file with its owner, mode, links and a sum of what is
// in it, accounts, packages and units, without what changes by itself or belongs to jadekettle.
const listing = `cd /; find etc srv opt home root usr/local var/spool/cron -xdev \( -name '*-' -path 'etc/*' -o ` +
	`-name .pwd.lock ` +
	`-o -name ld.so.cache -o -path 'srv/*.tmp' -o -path 'etc/apt*' -o -path 'srv/base/*' -o -path 'home/ops*' -o ` +
	`-path 'etc/subuid' -o -path 'etc/subgid' \) ` +
	`-o -type d -printf '%p %u %g %m\n' -o -printf '%p %u %g %m %l %s\n' 2>/dev/null | grep -v -e '^srv/web' | sort; ` +
	`find etc srv opt -xdev -type f ! -name '*-' ! -path 'srv/repo/*' -exec md5sum {} + 2>/dev/null | sort -k2; ` +
	`dpkg-query -W -f '${Package} ${Status} ${Version}\n'; systemctl list-unit-files --no-legend ` +
	`--type=service,timer | awk '{print $1, $2}'; ` +
	`cat /proc/mounts | grep /srv; hostname; nft list tables 2>/dev/null; sort /etc/passwd /etc/group | md5sum`

// changesOf gives what each task would change or changed, as "task: what, what".
func (l *lab) changesOf(verb string, code int) []string {
	l.t.Helper()
	args := []string{verb, "gauge-01", "--output", "json"}
	if verb == "apply" {
		args = append(args, "--yes")
	}
	got, out := l.jk(args...)
	var doc struct {
		Hosts []struct {
			Tasks []struct {
				Kind, Name, Status, Message string
				Changes                     []struct{ What, Was, Becomes string }
			}
			Message string
		}
	}
	if err := json.Unmarshal([]byte(out), &doc); err != nil {
		l.t.Fatalf("%s ended with %d, not %d: %v\n%.3000s", verb, got, code, err, out)
	}
	var list []string
	for _, h := range doc.Hosts {
		for _, t := range h.Tasks {
			var what []string
			for _, c := range t.Changes {
				what = append(what, c.What)
			}
			switch t.Status {
			case "unchanged", "skipped":
			case "changed":
				list = append(list, t.Kind+" "+t.Name+": "+strings.Join(what, ", "))
			default:
				list = append(list, t.Kind+" "+t.Name+" "+t.Status+": "+t.Message)
			}
		}
	}
	slices.Sort(list)
	if got != code {
		l.t.Errorf("%s ended with %d, not %d:\n%s", verb, got, code, strings.Join(list, "\n"))
	}
	return list
}

// TestEveryAttributeOnARealHost takes every attribute of every kind through its round: a preview says
// what an apply does, and changes nothing; the apply does it, by what the host's own programs say; a
// second one changes nothing; broken in two ways it is noticed and put right; taken away it is gone,
// and nothing else is.
func TestEveryAttributeOnARealHost(t *testing.T) {
	list := part()
	if len(list) == 0 {
		t.Fatal("no trial is meant")
	}
	l := up(t, "gauge-01")
	l.on("gauge-01", serve+"seq 1 2000 >/srv/web/harmonics.txt; mkdir -p /srv/at; apt-get update -q >/dev/null")
	l.arrange(list)
	if code, out := l.jk("lint"); code != 0 {
		t.Fatalf("lint: %s", out)
	}
	base := l.on("gauge-01", listing)
	would := l.changesOf("preview", 0)
	if now := l.on("gauge-01", listing); now != base {
		t.Errorf("the preview changed\n%s", unlike(base, now))
	}
	same := func(about string, would, did []string) {
		t.Helper()
		if !slices.Equal(would, did) {
			t.Errorf("%s: the preview says and the apply does\n%s", about,
				unlike(strings.Join(would, "\n"), strings.Join(did,
					"\n")))
		}
	}
	same("at first", would, l.changesOf("apply", 0))
	settled := func(about string) {
		t.Helper()
		if again := l.changesOf("apply", 0); len(again) > 0 {
			t.Errorf("%s, the next apply changed\n%s", about, strings.Join(again, "\n"))
		}
	}
	settled("applied")
	l.says(list, "applied")
	for round := range 2 {
		for _, tr := range list {
			if line := tr.Breaks[round]; line != "" {
				l.on("gauge-01", line)
				if got := l.asked(tr.Look); got == tr.Says {
					t.Errorf("%s: `%s` breaks nothing", tr.Of, line)
				}
			}
		}
		would := l.changesOf("preview", 0)
		same(fmt.Sprintf("broken, %d", round+1), would, l.changesOf("apply", 0))
		l.says(list, fmt.Sprintf("broken and put right, %d", round+1))
		settled("put right")
	}
	for i, tr := range list {
		l.write(filepath.Join("manifests", fmt.Sprintf("t%03d", i), "manifest.toml"),
			"about = \"nothing any more\"\n"+tr.Away)
	}
	if code, out := l.jk("apply", "gauge-01", "--yes", "--remove-undeclared"); code != 0 {
		t.Errorf("taking away ended with %d:\n%s", code, out)
	}
	for _, tr := range list {
		if got := l.asked(tr.Look); tr.Left == "" && got == tr.Says && tr.Breaks[0] != "" || tr.Left != "" &&
			got != tr.Left {
			t.Errorf("%s: taken away, %s still says %q", tr.Of, tr.Look, got)
		}
	}
	var gone []string // what a trial's own lines brought, and what a kind says that it leaves, aside
	for _, line := range strings.Split(unlike(base, l.on("gauge-01", listing)), "\n") {
		if line != "" && !strings.Contains(line, "srv/at") && !strings.HasSuffix(line, "  -") && !strings.Contains(line,
			"deinstall ok config-files") &&
			!strings.Contains(line, "reed-03") && !strings.Contains(line, "etc/default/locale") &&
			!accounts.MatchString(line) {
			gone = append(gone, line)
		}
	}
	if len(gone) > 0 {
		t.Errorf("taken away, this is different from before:\n%s", strings.Join(gone, "\n"))
	}
}

// arrange makes the host ready, and a project that declares what the trials do.
func (l *lab) arrange(list []trial) {
	l.t.Helper()
	var names []string
	for i, tr := range list {
		name := fmt.Sprintf("t%03d", i)
		names = append(names, strconv.Quote(name))
		l.write(filepath.Join("manifests", name, "manifest.toml"), tr.Declare)
		for file, text := range tr.Files {
			l.write(filepath.Join("manifests", name, file), text)
		}
		if tr.Before != "" {
			l.on("gauge-01", tr.Before)
		}
	}
	l.write("groups.toml", "[group.first]\nmembers = [\"gauge-01\"]\nmanifests = ["+strings.Join(names, ", ")+"]\n")
	l.write("data/shared.toml", "berths = [\"north\", \"south\"]\n")
}

// accounts are the files of accounts, in which the ids differ of what the trials' own lines made.
var accounts = regexp.MustCompile(`etc/(passwd|group|shadow|gshadow|subuid|subgid)\b`)

// asked runs what a trial looks with.
func (l *lab) asked(line string) string { return l.on("gauge-01", "export LC_ALL=C; "+line+"; true") }

// says holds every trial to what the host's own programs say.
func (l *lab) says(list []trial, when string) {
	l.t.Helper()
	for _, tr := range list {
		if got := l.asked(tr.Look); got != strings.TrimSpace(tr.Says) {
			l.t.Errorf("%s, %s: %s\n got %q\nwant %q", tr.Of, when, tr.Look, got, tr.Says)
		}
	}
}

// unlike gives the lines that only one of two texts has.
func unlike(a, b string) string {
	la, lb := strings.Split(a, "\n"), strings.Split(b, "\n")
	var out []string
	for _, line := range la {
		if !slices.Contains(lb, line) {
			out = append(out, "- "+line)
		}
	}
	for _, line := range lb {
		if !slices.Contains(la, line) {
			out = append(out, "+ "+line)
		}
	}
	return strings.Join(out, "\n")
}
