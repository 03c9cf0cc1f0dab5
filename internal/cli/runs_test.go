package cli_test

import (
	"bufio"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"

	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/history/store/pgtest"
)

// dated makes what differs from one time, account and machine to the next equal.
func dated(text string) string {
	me, _ := user.Current()
	for _, u := range []struct{ is, as string }{
		{`20[0-9]{2}-[0-9]{2}-[0-9]{2} [0-9]{2}:[0-9]{2}(:[0-9]{2})?`, "2026-01-01 12:00"},
		{`[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f-]{21}`, "0198"},
		{`\b` + regexp.QuoteMeta(me.Username) + `\b( on |@)[A-Za-z0-9.-]+`, "maren${1}desk"},
		{` ` + regexp.QuoteMeta(me.Username) + `( |\n)`, " maren$1"},
		{`\b[0-9a-f]{12}\b`, "c0ffee"},
		{`(took|now|usually) +[0-9.]+s`, "${1} 1.0s"},
		{`  [0-9.]+s\b`, ""},
		{`[0-9]+ minutes? ago`, "just now"},
		{`([^ \n]) {3,}`, "$1  "},
	} {
		text = regexp.MustCompile(u.is).ReplaceAllString(text, u.as)
	}
	return text
}

// TestRunsAreFound makes five runs and asks about them in every way, in a file and in
// a database of a server, which answer the same.
func TestRunsAreFound(t *testing.T) {
	t.Run("file", func(t *testing.T) { runsAreFound(t, "") })
	t.Run("server", func(t *testing.T) {
		runsAreFound(t, fmt.Sprintf("[history]\nurl = %q\n", pgtest.Start(t).Database(t)))
	})
}

func runsAreFound(t *testing.T, settings string) {
	beside := "[param.depth]\ntype = \"int\"\ndefault = 2\nabout = \"how deep\"\n" + motd
	dir, hosts := fleetOf(t, settings+"[status]\nfacts = [\"os.version_id\"]\n", beside+"[package.no-such-thing]\n"+
		"if = \"host.name == 'gauge-02'\"\n",
		"gauge-01", "gauge-02")
	home := []string{"XDG_STATE_HOME=" + filepath.Join(dir, "state")}
	jk := func(code int, args ...string) string {
		t.Helper()
		got, out, errs := jkEnv(t, dir, home, args...)
		if got != code {
			t.Fatalf("%v ends with %d\n%s%s", args, got, out, errs)
		}
		return out + errs
	}
	if out := jk(0, "runs"); !strings.Contains(out, "No matching runs.") {
		t.Errorf("before the first run: %s", out)
	}
	jk(0, "status")
	if out := jk(0, "runs", "check"); !strings.Contains(out, "There are no runs yet.") &&
		!strings.Contains(out, "0 runs") {
		t.Errorf("check before the first run: %s", out)
	}
	committed(t, dir, "v1")
	jk(1, "preview", "--note", "ticket=12")
	jk(1, "apply", "--all", "--param", "pier.depth=3")
	write(t, dir, map[string]string{"manifests/pier.toml": beside + "mode = \"0600\"\n"})
	jk(0, "apply", "--all")
	put(t, filepath.Join(hosts.Hosts[0].Root, "etc/motd"), "By hand.\n")
	jk(0, "exec", "gauge-01", "--", "getent", "passwd", "root")
	jk(0, "preview")
	var all strings.Builder
	for _, call := range []string{"runs", "runs --failed", "runs --task file --mode apply", "runs show 2",
		"runs show 2 gauge-02",
		"runs show -3 gauge-01 file /etc/motd", "runs show 4", "runs search no-such-thing", "runs diff 2 3",
		"runs history gauge-01 file /etc/motd", "status", "runs show 2 gauge-09", "runs show 2 gauge-01 file /etc/mot",
		"runs show 77",
		"runs sho", "runs --since yesterday", "runs note 2 ticket", "runs prune"} {
		_, out, errs := jkEnv(t, dir, home, strings.Fields(call)...)
		fmt.Fprintf(&all, "$ jadekettle %s\n%s%s\n", call, out, errs)
	}
	golden(t, "runs", dated(all.String()))
	for form, ends := range map[string]string{"markdown": "|\n", "csv": "\r\n", "junit": "</testsuites>\n"} {
		out := jk(0, "report", "2", "--output", form)
		if !strings.HasSuffix(out, ends) {
			t.Errorf("as %s it ends in %q", form, out[max(0, len(out)-40):])
		}
		golden(t, "report-"+form, regexp.MustCompile(`([0-9]+\.[0-9]{3}|20[0-9-]+T[0-9:]+Z|[0-9a-f]{40})`).
			ReplaceAllString(dated(out), "0"))
	}
	jk(0, "report", "2", "--output", "html", "--to", filepath.Join(dir, "run.html"))
	if out := jk(0, "report", "pages", filepath.Join(dir, "pages"), "--mode",
		"apply"); !strings.Contains(out, "2 runs, 2 hosts") {
		t.Errorf("a folder of pages: %s", out)
	}
	for _, name := range []string{"run.html", "pages/index.html", "pages/runs/3.html", "pages/hosts/gauge-02.html"} {
		if text, err := os.ReadFile(filepath.Join(dir, name)); err != nil ||
			!strings.Contains(string(text), "gauge-02") {
			t.Errorf("%s: %v", name, err)
		}
	}
	for call, what := range map[string]string{"report": "expected RUN", "report pages": "expected DIR",
		"report 2 --output xml": "has no output format \"xml\""} {
		if out := jk(2, strings.Fields(call)...); !strings.Contains(out, what) {
			t.Errorf("%s: %s", call, out)
		}
	}
	runsAreNotedAndPruned(t, dir, hosts, home, jk)
}

// runsAreNotedAndPruned notes, lists and lets go of runs.
func runsAreNotedAndPruned(t *testing.T, dir string, hosts *sim.Fleet, home []string,
	jk func(code int, args ...string) string) {
	t.Helper()
	jk(0, "runs", "note", "last-failed", "cause=tide")
	if out := jk(0, "runs", "--note", "cause=tide"); !strings.Contains(out, "\n2 ") ||
		!strings.Contains(out, "cause: tide") {
		t.Errorf("by its note: %s", out)
	}
	jk(0, "runs", "timing", "2")
	if out := jk(0, "status", "--metrics", "-"); !strings.Contains(out,
		`jadekettle_host_condition{host="gauge-01",jadekettle_host_condition="drifted"} 1`) ||
		!strings.HasSuffix(out, "# EOF\n") {
		t.Errorf("as metrics: %s", out)
	}
	listened(t, dir, home)
	if out := jk(0, "runs", "prune", "--keep", "2", "--yes"); !strings.Contains(out, "Deleted 3 runs") {
		t.Errorf("prune: %s", out)
	}
	if out := jk(0, "runs", "--mode", "prune"); !strings.Contains(out, "deleted: 3, from run 1 to run 3") {
		t.Errorf("who let them go: %s", out)
	}
	if out := jk(0, "runs", "prune", "--keep", "1", "--yes"); !strings.Contains(out, "Deleted 1 run") {
		t.Errorf("prune once more: %s", out)
	}
	if out := jk(0, "runs", "--mode", "prune"); strings.Count(out, "deleted: ") != 2 {
		t.Errorf("who let runs go is gone: %s", out)
	}
	if out := jk(0, "runs", "check"); !strings.Contains(out, "No problems found.") {
		t.Errorf("check: %s", out)
	}
	if log, _ := os.ReadFile(filepath.Join(hosts.Hosts[0].Root, "var/log/messages")); strings.Count(string(log),
		"\n") != 2 ||
		!strings.Contains(string(log), ", modified: 1 changed") {
		t.Errorf("the host's journal says\n%s", log)
	}
}

// TestRunsKeepNoSecret looks for an encrypted value in all that is kept of a run that writes it.
func TestRunsKeepNoSecret(t *testing.T) {
	dir := quay(t)
	write(t, dir, map[string]string{"manifests/gauge.toml": "[file.\"/etc/token\"]\ncontent = \"token = " +
		"${data.relay.token}\\n\"\n[command.\"report it\"]\nrun = [\"no-such-program\"]\nalways = true\ninput = " +
		"\"${data.relay.token}\"\n"})
	code, out, errs := jk(t, dir, "apply", "--all")
	if code == 2 {
		t.Fatal(errs)
	}
	for _, call := range [][]string{{"runs", "show", "last", "--output", "json"},
		{"runs", "show", "1", "gauge-01", "-v"},
		{"runs", "show", "1", "gauge-01", "file", "/etc/token", "--output", "json"}} {
		_, more, wrong := jk(t, dir, call...)
		if !strings.Contains(more, "/etc/token") {
			t.Errorf("%v: %s%s", call, more, wrong)
		}
		out += more + wrong
	}
	out += wholeHistory(t, filepath.Join(dir, ".local/state/jadekettle/history.db"))
	if strings.Contains(out+errs, "rip-tide") {
		t.Errorf("the secret is shown:\n%s", out+errs)
	}
	if _, out, _ := jk(t, dir, "runs", "search", "rip-tide", "--output", "json"); !strings.Contains(out, `"all": 0`) {
		t.Errorf("the secret is found: %s", out)
	}
}

// wholeHistory gives all that a file of runs holds, unpacked.
func wholeHistory(t *testing.T, file string) string {
	t.Helper()
	db, err := sql.Open("sqlite", file)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	z, err := zstd.NewReader(nil)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	var all strings.Builder
	for _, table := range []string{"run", "host", "thing", "place", "labels", "visit", "task", "note", "content",
		"leaf", "known", "words_data"} {
		rows, err := db.Query("SELECT * FROM " + table)
		if err != nil {
			t.Fatal(err)
		}
		cols, _ := rows.Columns()
		row := make([]any, len(cols))
		for i := range row {
			row[i] = new(any)
		}
		for rows.Next() {
			if err := rows.Scan(row...); err != nil {
				t.Fatal(err)
			}
			for _, to := range row {
				text, packed := (*to.(*any)).([]byte)
				if packed && len(text) > 0 && text[0] == 1 {
					if plain, err := z.DecodeAll(text[1:], nil); err == nil {
						text = plain
					}
				}
				if packed {
					*to.(*any) = string(text)
				}
				fmt.Fprintf(&all, "%s: %v\n", table, *to.(*any))
			}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			t.Fatal(err)
		}
	}
	if text := all.String(); !strings.Contains(text, "thing: file") || !strings.Contains(text, "hostname") {
		t.Errorf("it holds only\n%s", text)
	}
	return all.String()
}

// TestAStoreThatFailsStopsNoApply has the file be broken, locked away and of no use.
func TestAStoreThatFailsStopsNoApply(t *testing.T) {
	dir, _ := fleetOf(t, "", motd, "gauge-01")
	for state, want := range map[string]string{"broken": "is corrupted", "dir": "could not be saved",
		"none": "could not be saved"} {
		home := filepath.Join(t.TempDir(), "state")
		file := filepath.Join(home, "jadekettle", "history.db")
		os.MkdirAll(filepath.Dir(file), 0o700)
		switch state {
		case "broken":
			put(t, file, strings.Repeat("no database\n", 500))
		case "dir":
			os.MkdirAll(file, 0o700)
		case "none":
			os.Remove(filepath.Dir(file))
			put(t, filepath.Dir(file), "a file where the directory should be")
		}
		code, out, errs := jkEnv(t, dir, []string{"XDG_STATE_HOME=" + home}, "apply", "--all")
		if code != 0 || !strings.Contains(out, "gauge-01  1 ") || strings.Count(errs, want) != 1 ||
			strings.Contains(out, "\nRun ") {
			t.Errorf("%s: %d\n%s%s", state, code, out, errs)
		}
	}
}

// TestAnOlderRevisionIsReported applies a revision, goes back to the one before, and applies that.
func TestAnOlderRevisionIsReported(t *testing.T) {
	dir, _ := fleetOf(t, "", motd, "gauge-01")
	committed(t, dir, "v1")
	write(t, dir, map[string]string{"manifests/pier.toml": motd + "mode = \"0600\"\n"})
	committed(t, dir, "v2")
	if code, out, errs := jk(t, dir, "apply", "--all"); code != 0 || strings.Contains(errs, "older") {
		t.Fatalf("apply: %d\n%s%s", code, out, errs)
	}
	if out, err := exec.Command("git", "-C", dir, "checkout", "-q", "v1").CombinedOutput(); err != nil {
		t.Fatalf("git: %s", out)
	}
	if code, _, errs := jk(t, dir, "apply", "--all"); code != 0 || !strings.Contains(errs, " is older than ") ||
		!strings.Contains(errs, "in run 1 on ") {
		t.Errorf("apply of an older one: %d %s", code, errs)
	}
}

// TestOthersAreNotified has a run report a command, a webhook that does not exist, and a log.
func TestOthersAreNotified(t *testing.T) {
	dir, _ := fleetOf(t, "[log]\nfile = \"log.jsonl\"\n[notify.keepers]\nif = \"run.failed > 0\"\ncommand = [\"sh\", "+
		"\"-c\", \"cat > reported-$JADEKETTLE_RUN\"]\n"+
		"as = \"markdown\"\n[notify.office]\nif = \"run.mode == 'apply'\"\nwebhook = \"http://127.0.0.1:1/\"\n"+
		"key_file = \"no-such-key\"\n",
		motd+"[package.no-such-thing]\n", "gauge-01")
	if code, _, errs := jk(t, dir, "preview", "--skip", "package"); code != 0 || strings.Contains(errs, "reported") {
		t.Errorf("preview: %d %s", code, errs)
	}
	code, out, errs := jk(t, dir, "apply", "--all")
	if code != 1 || strings.Count(errs, "office could not be notified: ") != 1 ||
		!strings.Contains(errs, "no-such-key") {
		t.Errorf("apply: %d\n%s%s", code, out, errs)
	}
	if text, err := os.ReadFile(filepath.Join(dir, "reported-2")); err != nil ||
		!strings.Contains(string(text), "### package no-such-thing") {
		t.Errorf("the keepers were notified %q (%v)", text, err)
	}
	log, _ := os.ReadFile(filepath.Join(dir, "log.jsonl"))
	for _, want := range []string{`"msg":"run started"`, `"level":"ERROR","msg":"task ended"`, `"outcome":"failed"`,
		`"msg":"run ended"`, `"number":2`} {
		if !strings.Contains(string(log), want) {
			t.Errorf("the log has no %s:\n%s", want, log)
		}
	}
	if info, err := os.Stat(filepath.Join(dir, "log.jsonl")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the log: %v", err)
	}
}

// listened asks the status that is served for monitoring, and ends that.
func listened(t *testing.T, dir string, env []string) {
	t.Helper()
	c := exec.Command(program, "status", "--listen", "127.0.0.1:0")
	c.Dir, c.Env = dir, append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir}, env...)
	errs, err := c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	address, err := bufio.NewReader(errs).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	answer, err := http.Get(strings.TrimSpace(address))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	if err != nil || !strings.HasPrefix(answer.Header.Get("Content-Type"), "application/openmetrics-text") ||
		!strings.Contains(string(text), `jadekettle_host_applied_seconds{host="gauge-02"}`) ||
		!strings.HasSuffix(string(text), "# EOF\n") {
		t.Errorf("served is %s (%v)", text, err)
	}
	c.Process.Signal(os.Interrupt)
	if err := c.Wait(); err != nil {
		t.Errorf("it does not end well: %v", err)
	}
}

// TestAFullDiskUnderTheOutput: what could not be printed is said, and the code is that of a failure.
func TestAFullDiskUnderTheOutput(t *testing.T) {
	dir, _ := fleetOf(t, "", motd, "gauge-01")
	for _, args := range [][]string{{"apply", "--all", "--yes"}, {"apply", "--all", "--yes", "--output", "json"},
		{"preview"}, {"drift", "--output", "json"},
		{"exec", "gauge-01", "--yes", "--output", "json", "--", "true"}, {"hosts"}, {"runs", "--output", "json"},
		{"report", "last", "--output", "html"}} {
		full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
		if err != nil {
			t.Skip(err)
		}
		c := exec.Command(program, args...)
		errs := &strings.Builder{}
		c.Dir, c.Env, c.Stdout, c.Stderr = dir, []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir}, full, errs
		c.Run()
		full.Close()
		if code := c.ProcessState.ExitCode(); code != 1 || !strings.Contains(errs.String(),
			"some output could not be written: ") {
			t.Errorf("%v ends with %d: %s", args, code, errs)
		}
	}
}

// TestAFullDiskUnderTheLog: a run goes on without its log, and says so.
func TestAFullDiskUnderTheLog(t *testing.T) {
	dir, _ := fleetOf(t, "[log]\nfile = \"/dev/full\"\n", motd, "gauge-01")
	code, out, errs := jk(t, dir, "apply", "--all")
	if code != 0 || !strings.Contains(out, "1 changed") || !strings.Contains(errs, "not logged completely: ") ||
		!strings.Contains(errs, "no space left") {
		t.Errorf("apply: %d\n%s%s", code, out, errs)
	}
}
