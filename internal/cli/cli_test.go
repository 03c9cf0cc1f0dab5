package cli_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
	"jadekettle/internal/core/shell"
	"jadekettle/internal/fleet/sim"
	"jadekettle/internal/host/machine/folder"
)

var update = flag.Bool("update", false, "write the golden files again")

// program is the built jadekettle that every test drives.
var program string

func TestMain(m *testing.M) {
	flag.Parse()
	dir, err := os.MkdirTemp("", "saltmarsh-cli-*")
	if err != nil {
		panic(err)
	}
	os.Chmod(dir, 0o755)
	program = filepath.Join(dir, "jadekettle")
	if out, err := exec.Command("go", "build", "-o", program, "jadekettle/cmd/jadekettle").
		CombinedOutput(); err != nil {
		os.Stderr.Write(out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// jk runs the program in a folder and gives its exit code and output.
func jk(t *testing.T, dir string, args ...string) (code int, out, errs string) {
	t.Helper()
	return jkEnv(t, dir, nil, args...)
}

// agreed adds --yes to a call that would ask.
func agreed(args []string) []string {
	i := 0
	for i+1 < len(args) && strings.HasPrefix(args[i], "--") { // a flag with its value
		i += 2
	}
	if i >= len(args) || !slices.Contains([]string{"apply", "exec", "job"}, args[i]) ||
		slices.Contains(args, "--yes") ||
		args[i] == "job" && !slices.Contains(args[i:], "start") {
		return args
	}
	if i++; args[i-1] == "job" {
		i++
	}
	return slices.Insert(slices.Clone(args), i, "--yes")
}

// jkEnv runs the program, and says yes beforehand to what it asks.
func jkEnv(t *testing.T, dir string, env []string, args ...string) (int, string, string) {
	t.Helper()
	cmd := exec.Command(program, agreed(args)...)
	cmd.Dir = dir
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir}, env...)
	return finish(t, cmd)
}

func finish(t *testing.T, cmd *exec.Cmd) (int, string, string) {
	t.Helper()
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); cmd.ProcessState == nil {
		t.Fatal(err)
	}
	if strings.Contains(out.String()+errs.String(), "goroutine ") ||
		strings.Contains(out.String()+errs.String(), "\x1b") {
		t.Errorf("%v printed a stack trace, or colour without a terminal:\n%s%s", cmd.Args, out.String(), errs.String())
	}
	return cmd.ProcessState.ExitCode(), out.String(), errs.String()
}

var (
	// which a slow machine has and a fast one has not
	times = regexp.MustCompile(` +[0-9]+\.[0-9]s( to [0-9]+\.[0-9]s)?`)
	ports = regexp.MustCompile(`127\.0\.0\.1:[0-9]+`)
	tmp   = regexp.MustCompile(`/tmp/[A-Za-z0-9_./-]+`)
)

// golden compares text with a golden file, times and ports made equal.
func golden(t *testing.T, name, got string) {
	t.Helper()
	got = tmp.ReplaceAllString(ports.ReplaceAllString(times.ReplaceAllString(got, ""), "127.0.0.1:22"), "/tmp/x")
	file := filepath.Join("testdata", name+".golden")
	if *update {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		t.Errorf("%s differs from what is printed; run with -update and look at the difference\n%s", file, got)
	}
}

func TestTwentyMistakesAndMore(t *testing.T) {
	code, out, errs := jk(t, ".", "--project", "testdata/mistakes", "lint")
	if code != 2 || errs != "" {
		t.Errorf("lint ended with %d and said %q", code, errs)
	}
	golden(t, "mistakes", out)
	code, out, _ = jk(t, ".", "--project", "testdata/mistakes", "lint", "--output", "json")
	var doc struct {
		Format int
		Errors []struct {
			File, What, Do string
			Line, Column   int
		}
	}
	if err := json.Unmarshal([]byte(out), &doc); err != nil || code != 2 || doc.Format != 1 || len(doc.Errors) < 20 {
		t.Errorf("as JSON there are %d problems: %d %v", len(doc.Errors), code, err)
	}
}

func TestDemo(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "observatory")
	code, out, errs := jk(t, t.TempDir(), "demo", dir)
	if code != 0 {
		t.Fatalf("the demo ended with %d\n%s%s", code, out, errs)
	}
	for _, want := range []string{
		"$ jadekettle apply --all --yes --summary\n", "9 hosts: 6 changed, 1 failed, 1 not reached, 1 disabled\n",
		"archive-01  package foghorn-relay failed\n  manifests/archive/manifest.toml:39:10\n",
		"blocks: service foghorn-relay",
		"5 hosts: 4 unchanged, 1 disabled\n", "unchanged  gauge-[01..04]", "-sample_seconds = 3600   # saves paper\n",
		"to change  gauge-02  2 to change, 15 unchanged, 1 skipped\n", "Demo finished successfully.",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("the demo does not print %q\n%s", want, out)
		}
	}
	scene := func(command string) string {
		_, rest, _ := strings.Cut(out, "$ jadekettle "+command)
		text, _, _ := strings.Cut(rest, "\n\n# ")
		return text
	}
	golden(t, "preview", scene("preview gauge-01")+scene("preview gauge-02"))
	golden(t, "hosts", scene("hosts"))
	if code, _, errs := jk(t, t.TempDir(), "demo", dir); code != 2 || !strings.Contains(errs, "already exists") {
		t.Errorf("over an old demo it ends with %d: %s", code, errs)
	}
	if code, out, errs := jk(t, dir, "preview", "gauge-01"); code != 1 || !strings.Contains(out, "not reached") {
		t.Errorf("with the hosts down a preview ends with %d: %s%s", code, out, errs)
	}
}

// TestInitOnThisMachine walks through what the README says, as an ordinary
// user on this machine itself, without SSH.
func TestInitOnThisMachine(t *testing.T) {
	home, err := os.MkdirTemp("", "saltmarsh-home-*")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(home)
	os.RemoveAll("/tmp/saltmarsh")
	defer os.RemoveAll("/tmp/saltmarsh")
	as := func(args ...string) (int, string, string) {
		cmd := exec.Command(program, args...)
		cmd.Dir = home
		cmd.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home}
		if os.Geteuid() == 0 {
			os.Chown(home, 65534, 65534)
			cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		return finish(t, cmd)
	}
	if code, out, errs := as("init", "pier"); code != 0 || !strings.Contains(out, "pier/manifests/base.toml") {
		t.Fatalf("init ended with %d: %s%s", code, out, errs)
	}
	if code, _, errs := as("init", "pier"); code != 2 || !strings.Contains(errs, "already exists") {
		t.Errorf("init over a project ends with %d: %s", code, errs)
	}
	if code, out, errs := as("--project", "pier", "lint"); code != 0 ||
		!strings.Contains(out, "0 errors, 0 warnings (3 hosts") {
		t.Errorf("lint ends with %d: %s%s", code, out, errs)
	}
	if code, out, errs := as("--project", "pier", "facts", "localhost", "kernel.name"); code != 0 ||
		out != "Linux\n" {
		t.Errorf("facts ends with %d: %s%s", code, out, errs)
	}
	for _, want := range []string{"to change", "changed", "unchanged"} {
		call := []string{"apply", "--yes"}
		if want == "to change" {
			call = []string{"preview"}
		}
		code, out, errs := as(append(append([]string{"--project", "pier"}, call...), "localhost")...)
		if code != 0 || !strings.Contains("\n"+out, "\n"+want+"  localhost") {
			t.Fatalf("%s ends with %d: %s%s", call, code, out, errs)
		}
	}
	text, err := os.ReadFile("/tmp/saltmarsh/welcome")
	if err != nil || string(text) != "This is localhost at workshop.\nKept by Jade Kettle.\n" {
		t.Errorf("the file holds %q, %v", text, err)
	}
	if code, out, _ := as("--project", "pier", "preview", "--output", "json"); code != 0 ||
		!strings.Contains(out, `"state": "disabled"`) {
		t.Errorf("preview of all ends with %d: %s", code, out)
	}
}

// simulated brings up simulated hosts for the project in dir, until the test ends.
func simulated(t *testing.T, dir string, hosts ...folder.Spec) *sim.Fleet {
	t.Helper()
	fleet, err := sim.New(filepath.Join(dir, "simulated"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(fleet.Close)
	for _, host := range hosts {
		if _, err := fleet.Add(host); err != nil {
			t.Fatal(err)
		}
	}
	return fleet
}

// observatory is a project with one simulated host that is up.
func observatory(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	fleet := simulated(t, dir, folder.Spec{Name: "gauge-01"})
	for name, text := range map[string]string{
		"jadekettle.toml": "project = \"saltmarsh\"\n[inventory]\nfiles = [\"hosts.toml\", \"simulated.toml\"]\n" +
			"[ssh]\nknown_hosts = \"simulated/known_hosts\"\n",
		"simulated.toml": fleet.Inventory(),
		"hosts.toml": "[connect]\nkey = \"simulated/client-key\"\n[host.gauge-01]\n[group.gauge]\n" +
			"members = [\"*\"]\nmanifests = [\"gauge\"]\n",
		"manifests/gauge.toml": "[user.maren]\npassword = \"salt & water 01\"\n[file.\"/etc/note\"]\n" +
			"content = \"the word is salt & water 01\\n\"\nmode = \"0600\"\n[dir.\"/srv/pool\"]\n" +
			"[package.no-such-thing]\n",
	} {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func TestExitCodes(t *testing.T) {
	dir := observatory(t)
	for _, c := range []struct {
		args string
		env  []string
		code int
		says string
	}{
		{"apply", nil, 2, "no targets given"},
		{"apply gauge-01 --all", nil, 2, "--all cannot be combined with targets"},
		{"preview guage-01", nil, 2, `unknown host "guage-01"`},
		{"preview @gague", nil, 2, `unknown group "gague"`},
		{"preview --no-such-flag", nil, 2, "`jadekettle preview --help` lists the flags"},
		{"preview --output yaml", nil, 2, "use text or json"},
		{"preview", []string{"JADEKETTLE_OUTPUT=yaml"}, 2, "use text or json"},
		{"preview", []string{"JADEKETTLE_PARALLEL=many"}, 2, "the variable JADEKETTLE_PARALLEL"},
		{"lint --project /no/such", nil, 2, "not a Jade Kettle project"},
		{"no-such-command", nil, 2, "unknown command"},
		{"aply", nil, 2, "did you mean \"apply\"?"},
		{"rollback", nil, 2, "did you mean \"undo\"?"},
		{"dry-run", nil, 2, "did you mean \"preview\"?"},
		{"apply --dry-run", nil, 2, "did you mean \"--preview\"?"},
		{"apply --pararell 3", nil, 2, "did you mean \"--parallel\"?"},
		{"apply --batch", nil, 2, "--batch needs a value"},
		{"apply -j many", nil, 2, "invalid value \"many\" for --parallel"},
		{"secret x", nil, 2, "unknown command \"x\" for \"jadekettle secret\""},
		{"source x", nil, 2, "unknown command \"x\""},
		{"completion tcsh", nil, 2, "unknown command \"tcsh\""},
		{"why", nil, 2, "expected HOST data.NAME"},
		{"kinds a b", nil, 2, "unexpected argument \"b\""},
		{"init a --output json", nil, 2, "has no output format \"json\""},
		{"runs --most -1", nil, 2, "invalid --most -1"},
		{"compare main", nil, 2, "is not in a git repository"},
		{"why gauge-01 data.nowhere", nil, 2, "does not exist"},
		{"why gauge-01 file /nowhere", nil, 2, "no manifest of this host declares it"},
		{"hosts gauge-01,@gauge", nil, 0, "gauge-01"},
		{"-V", nil, 0, "jadekettle 0.1.0"},
		{"preview --task 'fiel *'", nil, 2, `did you mean "file"?`},
		{"preview --task file", nil, 0, "1 to change, 3 skipped"},
		{"preview --task ''", nil, 2, "write KIND PATTERN"},
		{"preview --manifest guage", nil, 2, `did you mean "gauge"?`},
		{"preview --label nightly", nil, 2, `no task has the label "nightly"`},
		{"preview --task 'file /nowhere'", nil, 2, "no task matches"},
		{"preview --task 'file /etc/*'", nil, 0, "1 to change, 3 skipped"},
		{"preview --skip '* *note' --skip package", nil, 0, "2 to change, 2 skipped"},
		{"preview --fail-if-changes", nil, 1, "not found in any repository"},
		{"preview --fail-if-changes --skip package", nil, 3, "3 to change"},
		{"apply --all", nil, 1, "1 failed"},
		{"facts gauge-01 os.idd", nil, 2, `did you mean "id"?`},
		{"facts gauge-01 os.version_id", nil, 0, "12\n"},
		{"facts gauge-01 services.cron", nil, 0, "services.cron.running  true"},
		{"hosts", nil, 0, "gauge-01"},
		{"hosts trust --yes gauge-01", nil, 0, "known already"},
		{"kinds", nil, 0, "service      A service:"},
		{"kinds file", nil, 0, "check = \"tide-logger --check ${candidate}\""},
		{"kinds service --output json", nil, 0, `"name": "restart_on"`},
		{"kinds fiel", nil, 2, `did you mean "file"?`},
		{"version", nil, 0, "jadekettle 0.1.0"},
		{"--help", nil, 0, "Getting started"},
	} {
		code, out, errs := jkEnv(t, dir, c.env, shell.Split(c.args)...)
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%v jadekettle %s ended with %d, not %d, or does not say %q:\n%s%s", c.env, c.args, code, c.code,
				c.says, out, errs)
		}
	}
	if code, _, errs := jk(t, t.TempDir(), "lint"); code != 2 ||
		!strings.Contains(errs, "create a project with `jadekettle init DIR`") {
		t.Errorf("outside a project lint ends with %d: %s", code, errs)
	}
}

func TestTheReportAsJSONAndItsSecrets(t *testing.T) {
	dir := observatory(t)
	var all string
	var doc struct {
		Format             int
		Run, Mode, Started string
		Seconds            float64
		Hosts              []map[string]any
	}
	for _, verb := range []string{"preview", "apply", "apply"} {
		_, out, errs := jk(t, dir, verb, "gauge-01", "--output", "json")
		all += out + errs
		if err := json.Unmarshal([]byte(out), &doc); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		_, out, errs = jk(t, dir, verb, "gauge-01", "-v")
		all += out + errs
	}
	h := doc.Hosts[0]
	if doc.Format != 1 || doc.Mode != "apply" || h["name"] != "gauge-01" || h["unchanged"] != 3.0 ||
		h["failed"] != 1.0 {
		t.Errorf("the report is %+v", doc)
	}
	task := h["tasks"].([]any)[3].(map[string]any)
	var keys []string
	for k := range task {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	if got := strings.Join(keys,
		" "); got != "after blocked_by by changes do drift kind labels line manifest message name output seconds "+
		"since status tries written" {
		t.Errorf("a task has %s", got)
	}
	if task["name"] != "no-such-thing" || task["manifest"] != "manifests/gauge.toml" || task["line"] != 7.0 {
		t.Errorf("the failed task is %v", task)
	}
	if strings.Contains(all, "salt & water") || !strings.Contains(all, "the word is (secret)") {
		t.Errorf("an output shows the password, or hides its place:\n%s", all)
	}
	filepath.Walk(filepath.Join(dir, "simulated/gauge-01/var"), func(p string, info os.FileInfo, err error) error {
		if data, _ := os.ReadFile(p); strings.Contains(string(data), "salt & water") {
			t.Errorf("%s holds the password", p)
		}
		return nil
	})
}

// TestDocumentsOfHostileTexts: what nobody sees, or steers a terminal, breaks no document.
func TestDocumentsOfHostileTexts(t *testing.T) {
	dir := observatory(t)
	write(t, dir, map[string]string{"manifests/gauge.toml": "about = \"a\uFEFFb\"\n[file.\"/etc/tide\u200Bs\"]\n" +
		"content = \"\\uFEFF\\u200B\\u009b31m\\u202E\\U000E0041\\uF8E1\"\nmode = \"0644\"\n"})
	for _, call := range []string{"preview gauge-01", "apply gauge-01 --yes", "hosts show gauge-01", "lint",
		"runs show last", "drift gauge-01",
		"lint --output sarif", "report last"} {
		args := strings.Fields(call)
		if !strings.Contains(call, "--output") {
			args = append(args, "--output", "json")
		}
		if _, out, errs := jk(t, dir, args...); !json.Valid([]byte(out)) ||
			strings.ContainsAny(out, "\ufeff\u200b\u009b") {
			t.Errorf("%s prints\n%.2000s%s", call, out, errs)
		}
	}
}

// TestEveryScreenshotIsLinked keeps the gallery and its directory together.
func TestEveryScreenshotIsLinked(t *testing.T) {
	gallery, err := os.ReadFile("../../docs/screenshots.md")
	if err != nil {
		t.Fatal(err)
	}
	shots, _ := filepath.Glob("../../docs/screenshots/*.png")
	if len(shots) == 0 || len(shots) >= 20 {
		t.Errorf("there are %d pictures", len(shots))
	}
	for _, s := range shots {
		if !strings.Contains(string(gallery), "(screenshots/"+filepath.Base(s)+")") {
			t.Errorf("the gallery does not show %s", s)
		}
	}
}

// TestTrust accepts a key that is not known, and not one that has changed.
func TestTrust(t *testing.T) {
	dir := observatory(t)
	known := filepath.Join(dir, "simulated/known_hosts")
	line, err := os.ReadFile(known)
	if err != nil {
		t.Fatal(err)
	}
	fields := strings.Fields(string(line))
	other := fields[0] + " " + fields[1] + " " + fields[2][:30] + "AAAA" + fields[2][34:] + "\n"
	elsewhere := "pier.example.org " + fields[1] + " " + fields[2] + "\n"
	try := func(current string, args ...string) (int, string) {
		t.Helper()
		if err := os.WriteFile(known, []byte(current), 0o600); err != nil {
			t.Fatal(err)
		}
		code, out, errs := jk(t, dir, append([]string{"hosts", "trust"}, args...)...)
		return code, out + errs
	}
	if code, said := try(elsewhere, "gauge-01"); code != 2 ||
		!strings.Contains(said, "trust needs confirmation, but this is not a terminal") {
		t.Errorf("without a terminal it ends with %d: %s", code, said)
	}
	if code, said := try(elsewhere, "--yes", "gauge-01"); code != 0 || !strings.Contains(said, "accepted") {
		t.Errorf("an unknown key: %d %s", code, said)
	}
	if text, _ := os.ReadFile(known); string(text) != elsewhere+string(line) {
		t.Errorf("known_hosts holds\n%s", text)
	}
	if code, said := try(elsewhere+other, "--yes", "gauge-01"); code != 1 ||
		!strings.Contains(said, "does not match the known key") {
		t.Errorf("a changed key: %d %s", code, said)
	}
	if code, said := try(elsewhere+other, "--yes", "--replace", "gauge-01"); code != 0 ||
		!strings.Contains(said, "accepted") {
		t.Errorf("a replaced key: %d %s", code, said)
	}
	if text, _ := os.ReadFile(known); string(text) != elsewhere+string(line) {
		t.Errorf("known_hosts holds\n%s", text)
	}
	if code, out, _ := jk(t, dir, "facts", "gauge-01", "os.id"); code != 0 || out != "debian\n" {
		t.Errorf("after trusting, facts ends with %d: %s", code, out)
	}
}

// TestHelp holds every command to a short text, an example that can be called, a place in the help of the program, and
// every flag that takes something to a word for what that is.
func TestHelp(t *testing.T) {
	dir, root := t.TempDir(), cli.Tree(commands.All)
	_, front, _ := jk(t, dir, "--help")
	var walk func(c *cobra.Command)
	seen := 0
	walk = func(c *cobra.Command) {
		words := strings.Fields(c.CommandPath())[1:]
		_, out, _ := jk(t, dir, append(words, "--help")...)
		seen++
		for i, line := range strings.Split(strings.TrimSuffix(out, "\n"), "\n") {
			if utf8.RuneCountInString(line) > 80 && !strings.HasPrefix(line, "  jadekettle ") {
				t.Errorf("%v: line %d has %d columns: %s", words, i+1, utf8.RuneCountInString(line), line)
			}
		}
		_, examples, _ := strings.Cut(out, "\nExamples\n")
		examples, _, _ = strings.Cut(examples, "\n\n")
		if len(words) > 0 && (!strings.HasPrefix(examples, "  jadekettle ") || c.Short == "" ||
			!strings.HasPrefix(out[len(out)-len(strings.TrimLeft(out, "\n")):], strings.TrimSuffix(c.Short, ".")) &&
				c.Long == "") {
			t.Errorf("%v has no example, or does not say what it does:\n%s", words, out)
		}
		for line := range strings.Lines(examples) {
			for call := range strings.SplitSeq(line, " && ") {
				_, call, ok := strings.Cut(strings.TrimSpace(call), "jadekettle ")
				args := shell.Split(strings.NewReplacer(" > ", " -- ", " | ", " -- ").Replace(call))
				if !ok {
					continue
				}
				if wrong := cannot(root, args); wrong != "" {
					t.Errorf("%v shows `jadekettle %s`, where %s", words, call, wrong)
				}
			}
		}
		for _, typeName := range []string{" string ", " stringArray ", " strings ", " int ", " duration "} {
			if _, flags, _ := strings.Cut(out, "\nFlags\n"); strings.Contains(flags, typeName+" ") {
				t.Errorf("%v says%s", words, typeName)
			}
		}
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() {
				walk(sub)
			}
		}
		if len(words) == 1 && !strings.Contains(front, "\n  "+words[0]+" ") {
			t.Errorf("%s is not in the help of the program", words[0])
		}
	}
	walk(root)
	if seen < 50 {
		t.Errorf("only %d commands were looked at", seen)
	}
	for _, want := range []string{"Getting started\n  init ", "\nExit status\n  0    success", "JADEKETTLE_PARALLEL=8",
		"-V, --version"} {
		if !strings.Contains(front, want) {
			t.Errorf("the help of the program does not say %q", want)
		}
	}
}

// TestAPipeIsNoFile: what is not a file or a directory is reported, and not waited for.
func TestAPipeIsNoFile(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, map[string]string{"jadekettle.toml": "project = \"test\"\n",
		"hosts.toml": "[host.gauge-01]\n[group.all]\nmembers = [\"*\"]\nmanifests = [\"all\"]\n",
		"manifests/all.toml": "[file.\"/etc/x\"]\ncopy = \"pipe\"\nowner = \"root\"\nmode = \"0600\"\n" +
			"[dir.\"/srv/x\"]\ncopy = \"tree\"\n", "manifests/tree/a": "a"})
	for _, name := range []string{"manifests/pipe", "manifests/tree/b"} {
		if err := syscall.Mkfifo(filepath.Join(dir, name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	code, out, _ := jk(t, dir, "lint")
	if code != 2 || !strings.Contains(out, "manifests/pipe is not a file or a symlink to a file") {
		t.Errorf("lint ends with %d: %s", code, out)
	}
}
