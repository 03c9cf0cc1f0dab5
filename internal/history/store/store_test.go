package store

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/google/uuid"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
	"jadekettle/internal/history/store/pgtest"
)

// pier is a store in a temporary folder, and a project in it.
func pier(t testing.TB) Project {
	t.Helper()
	return opened(t, &Store{File: filepath.Join(t.TempDir(), "state", "history.db")})
}

func opened(t testing.TB, s *Store) Project {
	t.Cleanup(func() { s.Close() })
	return Project{Store: s, ID: "pier"}
}

// another opens the same store as another process would.
func another(t testing.TB, p Project) Project {
	return opened(t, &Store{File: p.File, URL: p.URL})
}

// TestStores does the same with a file, and with a database of a server.
func TestStores(t *testing.T) {
	tests := []struct {
		name string
		do   func(*testing.T, Project)
	}{{"a run is kept", aRunIsKept}, {"finding", finding}, {"interrupted and late", interruptedAndLate},
		{"two at once", twoAtOnce},
		{"prune", prune}, {"nothing to do", nothingToDo}, {"kept for a while", keptForAWhile}, {"known", known},
		{"odd texts", oddTexts}}
	t.Run("file", func(t *testing.T) {
		for _, test := range tests {
			t.Run(test.name, func(t *testing.T) { test.do(t, pier(t)) })
		}
	})
	t.Run("server", func(t *testing.T) {
		s := pgtest.Start(t)
		for _, test := range tests {
			t.Run(test.name, func(t *testing.T) { test.do(t, opened(t, &Store{URL: s.Database(t)})) })
		}
	})
}

// reported is one task as a run reports it.
func reported(ref string, s plan.Status, more func(*record.Task)) record.Task {
	r, _ := value.ParseRef(ref)
	t := record.NewTask(plan.Result{Ref: r, Status: s, Took: 40 * time.Millisecond})
	t.DeclaredAt(value.Place{File: "manifests/gauge.toml", Line: 7})
	if more != nil {
		more(&t)
	}
	return t
}

// ended reports that a host has ended, as a run does.
func ended(h *record.Host) record.Event {
	h.Settle()
	return record.Event{Host: h.Name, Ended: h}
}

// kept keeps one run in which each host came to these tasks, and gives its number.
func kept(t *testing.T, p Project, mode string, hosts map[string][]record.Task, more func(*record.Head)) int {
	t.Helper()
	id, _ := uuid.NewV7()
	h := record.Head{Run: id.String(), Mode: mode, Started: time.Now().Add(-time.Second), Who: "maren", Machine: "desk",
		Whole: true, Declared: true, Command: []string{mode, "--all"}, Params: map[string]string{"gauge.depth": "3"}}
	if more != nil {
		more(&h)
	}
	files := Watch(fstest.MapFS{"manifests/gauge.toml": {Data: []byte("[file.\"/etc/motd\"]\ncontent = \"" +
		mode + "\"\n")},
		"big.bin": {Data: make([]byte, maxFile+1)}})
	files.ReadFile("manifests/gauge.toml")
	files.ReadFile("big.bin")
	names := value.Keys(hosts)
	r := p.Begin(h, names, files)
	var visits []*record.Host
	for _, name := range names {
		v := &record.Host{Name: name, State: record.Reached, Planned: len(hosts[name]), Began: h.Started, Seconds: 1,
			Facts: &facts.Facts{Hostname: name}}
		r.Event(record.Event{Host: v.Name, Begun: &record.Begun{At: h.Started, Tasks: v.Planned}})
		for i, task := range hosts[name] {
			task.ID = i
			v.Tasks = append(v.Tasks, task)
			r.Event(record.Event{Host: v.Name, Task: &task})
		}
		r.Event(ended(v))
		visits = append(visits, v)
	}
	r.End(&record.Run{Hosts: visits})
	if err := r.Wait(); err != nil {
		t.Fatal(err)
	}
	n, err := r.Number()
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func refuses(t *testing.T, what, do string, err error) {
	t.Helper()
	if p := problem.From(err); err == nil || !strings.Contains(p.What, what) || !strings.Contains(p.Do, do) {
		t.Errorf("it says %v, %q; it is to say %q, %q", err, problem.From(err).Do, what, do)
	}
}

func aRunIsKept(t *testing.T, p Project) {
	if _, err := p.List(Filter{}); err != nil {
		t.Errorf("without a file: %v", err)
	}
	if _, err := os.Stat(p.File); p.File != "" && err == nil {
		t.Error("asking makes a file")
	}
	n := kept(t, p, "apply", map[string][]record.Task{
		"gauge-01": {reported("file /etc/motd", plan.Changed, func(t *record.Task) {
			t.Changes = []plan.Change{{What: "content", Was: "ebb", Becomes: "flood", Diff: "-ebb\n+flood\n"}}
		}), reported("package tide-logger", plan.Unchanged, nil)},
		"gauge-02": {reported("file /etc/motd", plan.Failed, func(t *record.Task) {
			t.Message, t.Output = "the spring tide took it", strings.Repeat("wave after wave\n", 100)
		})},
	}, func(h *record.Head) { h.Notes = map[string]string{"ticket": "4711"} })
	k, err := p.Load(n)
	if err != nil {
		t.Fatal(err)
	}
	if k.State != record.Ended || k.Who != "maren" || k.Notes["ticket"] != "4711" || k.Params["gauge.depth"] != "3" ||
		len(k.Hosts) != 2 || k.Hosts[0].Outcome != record.OutChanged || k.Hosts[1].Outcome != record.OutFailed ||
		k.Hosts[0].Unchanged != 1 {
		t.Errorf("it was kept as %+v", k)
	}
	motd := k.Hosts[0].Tasks[0]
	if motd.Changes[0].Diff != "-ebb\n+flood\n" || motd.Seconds != 0.04 || motd.Line != 7 ||
		len(k.Hosts[1].Tasks[0].Output) != 1600 {
		t.Errorf("a task was kept as %+v", motd)
	}
	if text, err := p.Text(n, "manifests/gauge.toml"); err != nil || !strings.Contains(string(text), "apply") {
		t.Errorf("the manifest is %q (%v)", text, err)
	}
	if files, err := p.Files(n); err != nil || len(files) != 2 || files[0].Sum != "" || files[0].Size != maxFile+1 {
		t.Errorf("the files are %+v (%v)", files, err)
	}
	if f, err := p.Facts(n, "gauge-02"); err != nil || f.Hostname != "gauge-02" {
		t.Errorf("the facts are %+v (%v)", f, err)
	}
	if info, err := os.Stat(p.File); p.File != "" && (err != nil || info.Mode().Perm() != 0o600) {
		t.Errorf("others can read it: %v (%v)", info, err)
	}
	if err := p.Close(); err != nil {
		t.Errorf("it does not close: %v", err)
	}
	other := another(t, p) // numbers count for each project
	other.ID = "harbour"
	if n := kept(t, other, "preview", map[string][]record.Task{"chart-01": nil}, nil); n != 1 {
		t.Errorf("the first run of another project is %d", n)
	}
}

func finding(t *testing.T, p Project) {
	motd := func(s plan.Status) map[string][]record.Task {
		return map[string][]record.Task{"gauge-01": {reported("file /etc/motd", s, func(t *record.Task) {
			if s == plan.Failed {
				t.Message = "cannot write /etc/motd: permission denied"
			}
		})}}
	}
	kept(t, p, "preview", motd(plan.Changed), nil)
	kept(t, p, "apply", motd(plan.Failed), func(h *record.Head) {
		h.Who = "ottokar"
		h.Started = time.Now().
			Add(-48 * time.Hour)
	})
	kept(t, p, "apply", motd(plan.Unchanged), func(h *record.Head) { h.Notes = map[string]string{"ticket": "12"} })
	kept(t, p, "apply", motd(plan.Unchanged), nil)
	for _, c := range []struct {
		f    Filter
		want string
	}{
		{Filter{}, "4 3 2 1"}, {Filter{Failed: true}, "2"}, {Filter{Changed: true}, "1"}, {Filter{By: "OTTO"}, "2"},
		{Filter{Since: time.Now().Add(-time.Hour)}, "4 3 1"}, {Filter{Hosts: []string{"gauge-*"}, Most: 2}, "4 3"},
		{Filter{Hosts: []string{"chart-01"}}, ""}, {Filter{Tasks: []string{"file /etc/*"}}, "2 1"},
		{Filter{Tasks: []string{"user"}}, ""},
		{Filter{Notes: []string{"ticket"}}, "3"}, {Filter{Notes: []string{"ticket=13"}}, ""},
		{Filter{Modes: []string{"preview"}}, "1"},
		{Filter{Env: "harbour"}, ""},
	} {
		list, err := p.List(c.f)
		var got []string
		for _, b := range list {
			got = append(got, fmt.Sprint(b.Number))
		}
		if strings.Join(got, " ") != c.want || err != nil {
			t.Errorf("%+v finds %v (%v)", c.f, got, err)
		}
	}
	for which, want := range map[string]int{"last": 4, "last-failed": 2, "-1": 4, "~3": 2, "7": 7} {
		if n, err := p.Number(which, ""); n != want || err != nil {
			t.Errorf("%s is %d (%v)", which, n, err)
		}
	}
	for which, what := range map[string]string{"-9": "does not exist", "0": "invalid run", "newest": "invalid run"} {
		_, err := p.Number(which, "")
		refuses(t, what, "", err)
	}
	hits, all, err := p.Search([]string{"permission denied"}, Filter{})
	if err != nil || all != 1 || hits[0].Number != 2 || hits[0].Line != "cannot write /etc/motd: permission denied" {
		t.Errorf("found is %+v (%v)", hits, err)
	}
	for _, words := range []string{`"`, "NEAR(", "*", "a OR b", "motd/"} {
		if _, _, err := p.Search([]string{words}, Filter{}); err != nil {
			t.Errorf("searching %q: %v", words, err)
		}
	}
	life, err := p.Of("gauge-01", value.Ref{Kind: "file", Name: "/etc/motd"}, Filter{})
	if err != nil || len(life) != 3 || life[0].Runs != 2 || life[0].SinceNumber != 3 ||
		life[1].Task.Status != plan.Failed {
		t.Errorf("its life is %+v (%v)", life, err)
	}
	if err := p.Note(2, map[string]string{"cause": "the tide"}); err != nil {
		t.Error(err)
	}
	if hits, _, _ := p.Search([]string{"tide"}, Filter{}); len(hits) != 1 || hits[0].Line != "cause the tide" {
		t.Errorf("the note is found as %+v", hits)
	}
	refuses(t, "run 9", "jadekettle runs", p.Note(9, map[string]string{"a": "b"}))
	_, err = p.Load(9)
	refuses(t, "run 9", "jadekettle runs", err)
	s, err := p.Slow(4, 5)
	if err != nil || len(s.Tasks) != 1 || s.Tasks[0].Usual != 0.04 || s.Runs != 2 {
		t.Errorf("slow is %+v (%v)", s, err)
	}
}

func interruptedAndLate(t *testing.T, p Project) {
	id, _ := uuid.NewV7()
	h := record.Head{Run: id.String(), Mode: "apply", Started: time.Now(),
		Machine: "elsewhere.example.org", Whole: true}
	r := p.Begin(h, []string{"gauge-01", "gauge-02"}, nil)
	v := &record.Host{Name: "gauge-01"}
	one := reported("file /etc/motd", plan.Changed, nil)
	r.Event(record.Event{Host: v.Name, Begun: &record.Begun{At: h.Started, Tasks: 2}})
	r.Event(record.Event{Host: v.Name, Task: &one})
	r.Event(record.Event{Host: v.Name, AtWork: &record.AtWork{Kind: "package", Name: "buoy-tools", Line: "unpacking",
		Reported: time.Now()}})
	deadline := time.Now().Add(2 * time.Minute)
	for {
		k, err := p.Load(1)
		if err == nil && k.State == record.Running && len(k.Hosts[0].Tasks) == 1 && k.Hosts[0].AtWork != nil &&
			k.Hosts[0].AtWork.Line == "unpacking" {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("while it goes it is kept as %+v (%v)", k, err)
		}
		time.Sleep(10 * time.Millisecond)
	}
	db, _ := p.open()
	if err := write(db, func(tx *transaction) error { // its controller is killed
		err := tx.Exec("UPDATE run SET beat = 1")
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if list, _ := p.List(Filter{Failed: true}); len(list) != 1 || list[0].State != record.Interrupted {
		t.Errorf("it is listed as %+v", list)
	}
	if k, err := p.Load(1); err != nil || k.Hosts[0].State != record.Lost || k.Hosts[1].State != record.NotStarted {
		t.Errorf("its hosts are kept as %+v (%v)", k.Hosts, err)
	}
	all, err := p.HostRuns("", 9, "gauge-01", "gauge-99")
	if s := all["gauge-01"]; err != nil || len(all) != 1 || len(s) != 1 || s[0].Outcome != record.OutLost ||
		s[0].Message == "" {
		t.Errorf("the host it was at is as %+v (%v)", all, err)
	}
	unknown, _ := uuid.NewV7()
	undone := one // by the host's guard
	undone.Status, undone.Message = plan.Failed, "the host restored what was there"
	late := &record.Host{Name: "gauge-01", State: record.Reached, Collected: []record.Collected{
		{Run: id.String(), Tasks: []record.Task{undone, {Kind: "package", Name: "buoy-tools", Status: plan.Changed}}},
		{Run: unknown.String(), Tasks: []record.Task{{Kind: "user", Name: "maren", Status: plan.Failed,
			Message: "no room"}}},
	}}
	id2, _ := uuid.NewV7()
	h2 := record.Head{Run: id2.String(), Mode: "apply", Started: time.Now(), Machine: "desk", Whole: true}
	r2 := p.Begin(h2, []string{"gauge-01"}, nil)
	r2.Event(ended(late))
	r2.End(&record.Run{Hosts: []*record.Host{late}})
	if err := r2.Wait(); err != nil {
		t.Fatal(err)
	}
	k, err := p.Load(1)
	if err != nil || len(k.Hosts[0].Tasks) != 2 || k.Hosts[0].CollectedBy != 2 || k.Hosts[0].Changed != 1 ||
		k.Hosts[0].Failed != 1 {
		t.Errorf("what came late is kept as %+v (%v)", k.Hosts[0], err)
	}
	if k, err := p.Load(3); err != nil || k.State != record.Elsewhere || k.Hosts[0].Tasks[0].Message != "no room" {
		t.Errorf("a run of another machine is kept as %+v (%v)", k, err)
	}
	hostsThatLieOfRuns(t, p, r, id2)
}

// hostsThatLieOfRuns lets the first run end after all, and has a host report runs that are not its own.
func hostsThatLieOfRuns(t *testing.T, p Project, r *Recorder, id2 uuid.UUID) {
	t.Helper()
	r.End(&record.Run{Hosts: nil})
	if err := r.Wait(); err != nil {
		t.Error(err)
	}
	lies := &record.Host{Name: "gauge-01", State: record.Reached,
		Collected: []record.Collected{{Run: "no run"}, {Run: id2.String(), Tasks: []record.Task{
			{Kind: "file", Name: "/etc/lie", Status: plan.Changed}}}}}
	for range 3 * mostUnknown {
		one, _ := uuid.NewV7()
		lies.Collected = append(lies.Collected, record.Collected{Run: one.String()})
	}
	other := Project{Store: p.Store, ID: "harbour"}
	theirs := kept(t, other, "apply", map[string][]record.Task{"gauge-01": nil}, nil)
	k, _ := other.Load(theirs)
	lies.Collected = append(lies.Collected, record.Collected{Run: k.Run, Tasks: lies.Collected[1].Tasks})
	id3, _ := uuid.NewV7()
	r3 := p.Begin(record.Head{Run: id3.String(), Mode: "apply", Started: time.Now()}, []string{"gauge-01"}, nil)
	r3.Event(ended(lies))
	r3.End(&record.Run{Hosts: []*record.Host{lies}})
	if err := r3.Wait(); err != nil {
		t.Fatal(err)
	}
	if list, _ := p.List(Filter{}); len(list) != 4+mostUnknown {
		t.Errorf("a host that lies made %d runs", len(list))
	}
	for _, of := range []Project{p, other} {
		if hits, _, _ := of.Search([]string{"lie"}, Filter{}); len(hits) > 0 {
			t.Errorf("a host that lies is believed: %+v", hits)
		}
	}
}

// twoAtOnce has several processes keep runs in one store.
func twoAtOnce(t *testing.T, p Project) {
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			own := another(t, p)
			for range 5 {
				kept(t, own, "apply", map[string][]record.Task{
					"gauge-01": {reported("file /etc/motd", plan.Changed, nil)}}, nil)
			}
		})
	}
	wg.Wait()
	list, err := p.List(Filter{})
	for i, b := range list {
		if b.Number != 20-i || b.State != record.Ended || b.TasksChanged != 1 {
			t.Errorf("run %d is kept as %+v", b.Number, b)
		}
	}
	if h, wrong := p.Check(); err != nil || wrong != nil || len(list) != 20 || len(h.Wrong) > 0 {
		t.Errorf("there are %d runs (%v, %v, %+v)", len(list), err, wrong, h)
	}
}

// TestAStoreThatFails has every fault reported in words, with what to do, and stops nothing.
func TestAStoreThatFails(t *testing.T) {
	begin := func(p Project) error {
		id, _ := uuid.NewV7()
		r := p.Begin(record.Head{Run: id.String(), Mode: "apply", Started: time.Now()}, []string{"gauge-01"}, nil)
		r.End(&record.Run{Hosts: []*record.Host{&record.Host{Name: "gauge-01"}}})
		return r.Wait()
	}
	t.Run("no database", func(t *testing.T) {
		p := pier(t)
		os.MkdirAll(filepath.Dir(p.File), 0o700)
		os.WriteFile(p.File, []byte(strings.Repeat("this is the log of the lighthouse\n", 400)), 0o600)
		refuses(t, "is corrupted", "runs check", begin(p))
		_, err := p.List(Filter{})
		refuses(t, "is corrupted", "runs check", err)
		if _, ok := p.Known("").Load("gauge-01"); ok {
			t.Error("something is known")
		}
	})
	t.Run("newer", func(t *testing.T) {
		p := pier(t)
		db, err := p.open()
		if err != nil {
			t.Fatal(err)
		}
		db.Exec("PRAGMA user_version = 99")
		p.Close()
		newer := Project{Store: &Store{File: p.File}, ID: "pier"}
		refuses(t, "newer jadekettle: it has format 99", "use the newer version", begin(newer))
	})
	t.Run("locked", func(t *testing.T) {
		p := pier(t)
		if err := begin(p); err != nil {
			t.Fatal(err)
		}
		db, _ := p.open()
		tx, err := db.Begin()
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Rollback()
		other := Project{Store: &Store{File: p.File}, ID: "pier"}
		defer other.Close()
		begun := time.Now()
		refuses(t, "is locked", "try again", begin(other))
		if took := time.Since(begun); took > 30*time.Second {
			t.Errorf("it took %v", took)
		}
	})
	t.Run("not a byte is left", func(t *testing.T) {
		p := pier(t)
		dir := filepath.Dir(p.File)
		os.MkdirAll(dir, 0o700)
		if err := syscall.Mount("saltmarsh", dir, "tmpfs", 0, "size=2m"); err != nil {
			t.Skipf("no file system can be mounted: %v", err)
		}
		defer syscall.Unmount(dir, syscall.MNT_DETACH)
		if err := begin(p); err != nil {
			t.Fatal(err)
		}
		p.Close()
		if f, err := os.Create(filepath.Join(dir, "filler")); err == nil {
			for _, err := f.Write(make([]byte, 4096)); err == nil; _, err = f.Write(make([]byte, 4096)) {
			}
			f.Close()
		}
		full := another(t, p)
		defer full.Close()
		if list, err := full.List(Filter{}); err != nil || len(list) != 1 {
			t.Errorf("it reads %d runs: %v", len(list), err)
		}
		refuses(t, "is full", "free some space", begin(another(t, p)))
	})
	storeOnABadDisk(t, begin)
}

// storeOnABadDisk has a store emptied, taken away, on a full disk, read-only, nowhere and damaged.
func storeOnABadDisk(t *testing.T, begin func(p Project) error) {
	t.Helper()
	t.Run("emptied, and taken away", func(t *testing.T) {
		p := pier(t)
		if err := begin(p); err != nil {
			t.Fatal(err)
		}
		p.Close()
		for size := range 2 {
			os.WriteFile(p.File, make([]byte, size), 0o600)
			os.Remove(p.File + "-wal")
			said := ""
			emptied := Project{Store: &Store{File: p.File, Report: func(text string) { said += text }}, ID: "pier"}
			if err := begin(emptied); err != nil || strings.Count(said, "its content is lost") != 1 {
				t.Errorf("of %d bytes it says %q (%v)", size, said, err)
			}
			emptied.Close()
		}
		id, _ := uuid.NewV7()
		r := another(t, p).Begin(record.Head{Run: id.String(), Mode: "apply", Started: time.Now()},
			[]string{"gauge-01"}, nil)
		r.Number()
		os.Remove(p.File)
		r.End(&record.Run{Hosts: []*record.Host{&record.Host{Name: "gauge-01"}}})
		refuses(t, "was removed during the run", "creates a new one", r.Wait())
	})
	t.Run("full and read-only", func(t *testing.T) {
		p := pier(t)
		dir := filepath.Dir(p.File)
		os.MkdirAll(dir, 0o700)
		if err := syscall.Mount("saltmarsh", dir, "tmpfs", 0, "size=400k"); err != nil {
			t.Skipf("no file system can be mounted: %v", err)
		}
		defer syscall.Unmount(dir, syscall.MNT_DETACH)
		id, _ := uuid.NewV7()
		r := p.Begin(record.Head{Run: id.String(), Mode: "apply", Started: time.Now()}, []string{"gauge-01"}, nil)
		v := &record.Host{Name: "gauge-01", State: record.Reached}
		for i := range 60 {
			one := reported(fmt.Sprintf("file /srv/%d", i), plan.Failed, func(t *record.Task) {
				for n := range 4000 { // which packs badly
					t.Message += fmt.Sprintf("%x", (n+i)*7919)
				}
			})
			r.Event(record.Event{Host: v.Name, Task: &one})
		}
		r.End(&record.Run{Hosts: []*record.Host{v}})
		refuses(t, "the disk of the history", "runs prune", r.Wait())
		p.Close()
		if err := syscall.Mount("saltmarsh", dir, "tmpfs", syscall.MS_REMOUNT|syscall.MS_RDONLY,
			"size=400k"); err != nil {
			t.Fatal(err)
		}
		p = another(t, p)
		refuses(t, "cannot be written", "[history] file", begin(p))
		if list, err := p.List(Filter{}); err != nil || len(list) != 1 {
			t.Errorf("what is there is listed as %+v (%v)", list, err)
		}
	})
	t.Run("nowhere", func(t *testing.T) {
		refuses(t, "no location for the history", "[history] file", begin(Project{Store: &Store{}, ID: "pier"}))
	})
	t.Run("below a file", func(t *testing.T) {
		p := Project{Store: &Store{File: "/dev/null/history.db"}, ID: "pier"}
		if err := begin(p); err == nil {
			t.Error("it is kept below a file")
		}
	})
	t.Run("damaged in the middle", func(t *testing.T) {
		p := pier(t)
		kept(t, p, "apply", map[string][]record.Task{"gauge-01": {reported("file /etc/motd", plan.Changed, nil)}}, nil)
		db, _ := p.open()
		db.Exec("UPDATE content SET packed = x'0001' WHERE id = 1")
		h, err := p.Check()
		if err != nil || len(h.Wrong) == 0 || !strings.Contains(h.Wrong[0], "is corrupted") {
			t.Errorf("the check finds %+v (%v)", h, err)
		}
	})
}

func prune(t *testing.T, p Project) {
	for i := range 6 {
		kept(t, p, "apply", map[string][]record.Task{
			"gauge-01": {reported(fmt.Sprintf("file /srv/tide-%d", i), plan.Failed, func(t *record.Task) {
				for n := range 4000 { // which packs badly
					t.Message += fmt.Sprintf("%x", (n+i)*7919)
				}
			})}}, func(h *record.Head) { h.Started = time.Now().Add(time.Duration(i-6) * 24 * time.Hour) })
	}
	count := func(l Limits) int {
		list, err := p.Old(l)
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	if a, b, c := count(Limits{}), count(Limits{Count: 2}), count(Limits{Before: time.Now().
		Add(-60 * time.Hour)}); a != 0 || b != 4 || c != 4 {
		t.Errorf("beyond are %d, %d and %d", a, b, c)
	}
	if n := count(Limits{Size: 20 << 10}); n < 2 || n > 5 {
		t.Errorf("beyond a size are %d", n)
	}
	list, _ := p.Old(Limits{Count: 2})
	shown := p.Follow(1)
	if _, events, err := shown.Next(); err != nil || len(events) == 0 {
		t.Fatalf("a run is followed to %v (%v)", events, err)
	}
	freed, err := p.Prune(list)
	if err != nil || p.File != "" && freed <= 0 {
		t.Errorf("it gave %d bytes back (%v)", freed, err)
	}
	if _, _, err := shown.Next(); !errors.Is(err, ErrNoRun) {
		t.Errorf("a run that is let go while it is shown gives %v", err)
	}
	left, _ := p.List(Filter{})
	hits, all, _ := p.Search([]string{"tide"}, Filter{})
	if len(left) != 2 || all != 2 || slices.ContainsFunc(hits, func(h history.Hit) bool { return h.Number < 5 }) {
		t.Errorf("left are %d runs and %d places", len(left), all)
	}
	if n := kept(t, p, "apply", map[string][]record.Task{"gauge-01": nil}, nil); n != 7 {
		t.Errorf("the next one has the number %d", n)
	}
	if h, err := p.Check(); err != nil || len(h.Wrong) > 0 || h.Runs != 3 {
		t.Errorf("the check finds %+v (%v)", h, err)
	}
}

// count counts rows.
func count(t *testing.T, p Project, table string) (n int) {
	t.Helper()
	db, err := p.open()
	if err == nil {
		err = db.QueryRow("SELECT count(*) FROM " + table).Scan(&n)
	}
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// nothingToDo: a host that has nothing to do takes one row, and all is known of its tasks nevertheless.
func nothingToDo(t *testing.T, p Project) {
	tasks := func(of plan.Status) []record.Task {
		skipped := reported("service foghorn-relay", plan.Skipped, func(t *record.Task) { t.Message = "not by night" })
		return []record.Task{reported("file /etc/motd", of, func(t *record.Task) { t.Labels = []string{"shore"} }),
			reported("package tide-logger", plan.Unchanged, func(t *record.Task) { t.Seconds, t.After = 3.5, 1.25 }),
			skipped}
	}
	kept(t, p, "apply", map[string][]record.Task{"gauge-01": tasks(plan.Changed)}, nil)
	before := count(t, p, "task")
	for range 3 {
		kept(t, p, "apply", map[string][]record.Task{"gauge-01": tasks(plan.Unchanged),
			"gauge-02": tasks(plan.Unchanged)}, nil)
	}
	if n, lists := count(t, p, "task"), count(t, p, "list"); n != before || lists != 1 {
		t.Errorf("%d rows were written, and %d lists", n-before, lists)
	}
	k, err := p.Load(4)
	if err != nil || len(k.Hosts) != 2 || len(k.Hosts[1].Tasks) != 3 {
		t.Fatalf("it has %+v (%v)", k, err)
	}
	if a, b, c := k.Hosts[1].Tasks[0], k.Hosts[1].Tasks[1], k.Hosts[1].Tasks[2]; a.Status != plan.Unchanged ||
		!slices.Equal(a.Labels, []string{"shore"}) || a.Seconds != 0.04 || a.Line != 7 || b.Seconds != 3.5 ||
		b.After != 1.25 || c.Status != plan.Skipped || c.Message != "not by night" {
		t.Errorf("its tasks are %+v", k.Hosts[1].Tasks)
	}
	_, events, err := p.Follow(4).Next()
	if err != nil || len(events) != 4 || len(events[3].Ended.Tasks) != 3 {
		t.Errorf("it is followed as %+v (%v)", events, err)
	}
	of, err := p.Of("gauge-01", value.Ref{Kind: "file", Name: "/etc/motd"}, Filter{})
	if err != nil || len(of) != 2 || of[0].Runs != 3 || of[0].Task.Seconds != 0.04 ||
		of[1].Task.Status != plan.Changed {
		t.Errorf("the file was %+v (%v)", of, err)
	}
	slow, err := p.Slow(4, 9)
	if err != nil || slow.Kinds[0].Seconds != 7 || slow.Kinds[0].Usual != 7 {
		t.Errorf("its time went to %+v (%v)", slow, err)
	}
	if h, err := p.Check(); err != nil || len(h.Wrong) > 0 || h.Tasks != 3+3*6 {
		t.Errorf("the check finds %+v (%v)", h, err)
	}
}

// keptForAWhile: what began longer ago goes while later runs are recorded, with all that only it had.
func keptForAWhile(t *testing.T, p Project) {
	day := func(n int) func(*record.Head) {
		return func(h *record.Head) { h.Started = time.Now().Add(-time.Duration(n) * 24 * time.Hour) }
	}
	for i, days := range []int{500, 450, 300} {
		kept(t, p, "apply", map[string][]record.Task{
			"gauge-01": {reported("file /etc/motd", plan.Changed, nil)},
			"gauge-02": {reported(fmt.Sprintf("file /srv/tide-%d", i), plan.Unchanged, nil)},
		}, day(days))
	}
	p.Keep = 400 * 24 * time.Hour
	db, err := p.open()
	if err != nil {
		t.Fatal(err)
	}
	for more := true; more && err == nil; {
		more, err = p.expire(db, time.Now().Add(-p.Keep))
	}
	left, _ := p.List(Filter{})
	if err != nil || len(left) != 1 || left[0].Number != 3 || len(left[0].Hosts) != 2 {
		t.Errorf("left are %+v (%v)", left, err)
	}
	for table, want := range map[string]int{"visit": 2, "task": 1, "list": 1, "item": 1, "leaf": 2, "tree": 1} {
		if n := count(t, p, table); n != want {
			t.Errorf("left are %d of %s, not %d", n, table, want)
		}
	}
	if h, err := p.Check(); err != nil || len(h.Wrong) > 0 {
		t.Errorf("the check finds %+v (%v)", h, err)
	}
	p.Keep = 200 * 24 * time.Hour
	kept(t, p, "apply", map[string][]record.Task{"gauge-01": nil}, nil)
	r := p.Begin(record.Head{Run: uuid.NewString(), Mode: "apply", Started: time.Now()}, nil, nil)
	gone := func() bool {
		left, err = p.List(Filter{})
		return err != nil || left[len(left)-1].Number == 4
	}
	for !gone() { // while the run has nothing to write
		time.Sleep(5 * time.Millisecond)
	}
	r.End(&record.Run{})
	if err := cmp.Or(err, r.Wait()); err != nil || len(left) != 2 {
		t.Errorf("left are %+v (%v)", left, err)
	}
}

func known(t *testing.T, p Project) {
	k := p.Known("production")
	if _, ok := k.Load("gauge-01"); ok || len(k.Hosts()) > 0 {
		t.Error("something is known of a host that was never read")
	}
	at := time.Unix(1_800_000_000, 0).UTC()
	keep := func(l Learnt, now time.Time) {
		t.Helper()
		if err := k.Keep(News{At: now, Hosts: []Learnt{l}}); err != nil {
			t.Fatal(err)
		}
	}
	keep(Learnt{Host: "gauge-01", Facts: &facts.Facts{Hostname: "gauge-01",
		Services: map[string]facts.Service{"cron": {Running: true}}}}, at)
	s, ok := k.Load("gauge-01")
	if !ok || s.Facts.Hostname != "gauge-01" || !s.Read.Equal(at) || s.Groups != nil || !s.Ran.IsZero() {
		t.Errorf("known as %+v", s)
	}
	later := at.Add(time.Hour)
	keep(Learnt{Host: "gauge-01", Facts: &facts.Facts{Hostname: "gauge-1"}, Groups: []string{"all"}}, later)
	keep(Learnt{Host: "gauge-01", Facts: &facts.Facts{Hostname: "gauge-1"}}, later)
	s, _ = k.Load("gauge-01")
	if s.Facts.Hostname != "gauge-1" || !s.Facts.Services["cron"].Running ||
		!slices.Equal(s.Groups, []string{"all"}) || !s.Ran.Equal(later) {
		t.Errorf("after a run it is known as %+v", s)
	}
	moves := []Move{{Host: "gauge-01", What: "into", Group: "spring", Why: "by its name", At: at, Run: 1},
		{Host: "gauge-02", What: "gone", At: later}}
	r := p.Begin(record.Head{Run: uuid.NewString(), Mode: "apply", Started: at}, nil, nil)
	r.Learn(k, News{At: at, Moves: moves[:1]})
	r.End(&record.Run{})
	if err := cmp.Or(r.Wait(), k.Keep(News{At: later, Moves: moves[1:]})); err != nil {
		t.Fatal(err)
	}
	if got, err := k.Moves(at); err != nil || !slices.Equal(got, moves) {
		t.Errorf("moves are kept as %+v (%v)", got, err)
	}
	if got, err := k.Moves(later); err != nil || len(got) != 1 {
		t.Errorf("since later there are %+v (%v)", got, err)
	}
	if _, ok := p.Known("test").Load("gauge-01"); ok {
		t.Error("another environment knows it")
	}
	keep(Learnt{Host: "gauge-02", Facts: &facts.Facts{Hostname: "bad\x1b"}}, at)
	if _, ok := k.Load("gauge-02"); ok {
		t.Error("facts that do not hold to their bounds are taken")
	}
	for range 2 {
		if err := k.Forget("gauge-02"); err != nil || len(k.Hosts()) != 1 {
			t.Errorf("a host is not forgotten (%v)", err)
		}
	}
}

// oddTexts are what programs print and people name things: no UTF-8, a NUL, very much of it.
func oddTexts(t *testing.T, p Project) {
	odd := "brine\x00\xff\xfe \x1b[31m<b>'; DROP TABLE run; --"
	n := kept(t, p, "apply", map[string][]record.Task{
		"gauge-01": {reported("command "+odd, plan.Failed, func(t *record.Task) {
			t.Message, t.Output = odd, strings.Repeat("Fähre über die Flußmündung 12e5 ", 4000)
		})}}, func(h *record.Head) { h.Notes = map[string]string{odd: odd}; h.Command = []string{odd} })
	k, err := p.Load(n)
	if err != nil || len(k.Hosts[0].Tasks) != 1 || !strings.HasPrefix(k.Hosts[0].Tasks[0].Name, "brine") ||
		len(k.Hosts[0].Tasks[0].Output) < 100_000 || len(k.Notes) != 1 {
		t.Errorf("it is kept as %+v (%v)", k, err)
	}
	for words, want := range map[string]int{"fahre uber": 1, "FLUSSMUNDUNG": 0, "flußmündung 12e": 1,
		"uber fahre": 0, "brine": 2, "drop table": 2} {
		if _, all, err := p.Search([]string{words}, Filter{Most: 5}); err != nil || all != want {
			t.Errorf("%q is found %d times, not %d (%v)", words, all, want, err)
		}
	}
}

// BenchmarkKeeping keeps a run of 100 hosts with 100 tasks each.
func BenchmarkKeeping(b *testing.B) {
	p := Project{Store: &Store{File: filepath.Join(b.TempDir(), "history.db")}, ID: "pier"}
	defer p.Close()
	for b.Loop() {
		id, _ := uuid.NewV7()
		h := record.Head{Run: id.String(), Mode: "apply", Started: time.Now(), Whole: true}
		r := p.Begin(h, nil, nil)
		var all []*record.Host
		for host := range 100 {
			v := &record.Host{Name: fmt.Sprintf("gauge-%03d", host), State: record.Reached}
			for i := range 100 {
				one := reported(fmt.Sprintf("file /srv/tide/%d", i), plan.Unchanged, nil)
				r.Event(record.Event{Host: v.Name, Task: &one})
			}
			r.Event(ended(v))
			all = append(all, v)
		}
		r.End(&record.Run{Hosts: all})
		if err := r.Wait(); err != nil {
			b.Fatal(err)
		}
	}
}

// BenchmarkAThousandHosts asks how each of a thousand hosts is, after fifty runs over all.
func BenchmarkAThousandHosts(b *testing.B) {
	p := Project{Store: &Store{File: filepath.Join(b.TempDir(), "history.db")}, ID: "pier"}
	defer p.Close()
	var names []string
	for i := range 1000 {
		names = append(names, fmt.Sprintf("gauge-%04d", i))
	}
	for n := range 50 {
		id, _ := uuid.NewV7()
		r := p.Begin(record.Head{Run: id.String(), Mode: "apply", Started: time.Now(), Whole: true}, names, nil)
		var all []*record.Host
		for i, name := range names {
			v := &record.Host{Name: name, State: record.Reached, Facts: &facts.Facts{Hostname: name}}
			one := reported("file /etc/motd", plan.Unchanged, nil)
			if (i+n)%50 == 0 {
				one.Status = plan.Failed
			}
			v.Tasks = []record.Task{one}
			r.Event(record.Event{Host: v.Name, Task: &one})
			r.Event(ended(v))
			all = append(all, v)
		}
		r.End(&record.Run{Hosts: all})
		if err := r.Wait(); err != nil {
			b.Fatal(err)
		}
	}
	b.Run("status", func(b *testing.B) {
		for b.Loop() {
			current, err := p.HostRuns("", 200, names...)
			if err != nil || len(current) != len(names) {
				b.Fatal(err)
			}
			moved := map[int]map[string][]record.Task{}
			for _, name := range names {
				if _, err := history.StatusOf(name, current[name], func(n int) ([]record.Task, error) {
					if moved[n] == nil {
						moved[n], _ = p.Moved(n, names...)
					}
					return moved[n][name], nil
				}); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	b.Run("runs", func(b *testing.B) {
		for b.Loop() {
			if list, err := p.List(Filter{Most: 30}); err != nil || len(list) != 30 {
				b.Fatal(err)
			}
		}
	})
	b.Run("search", func(b *testing.B) {
		for b.Loop() {
			if _, all, err := p.Search([]string{"motd"}, Filter{Most: 40}); err != nil || all != 1000 {
				b.Fatal(all, err)
			}
		}
	})
	b.Run("of", func(b *testing.B) {
		for b.Loop() {
			if list, err := p.Of("gauge-0042", value.Ref{Kind: "file", Name: "/etc/motd"}, Filter{}); err != nil ||
				len(list) == 0 {
				b.Fatal(err)
			}
		}
	})
}

// TestAStatusThatIsNotKnown is not reported as unchanged.
func TestAStatusThatIsNotKnown(t *testing.T) {
	for status, n := range numbers {
		if got := statusOf(n); got != status {
			t.Errorf("%d is %s, not %s", n, got, status)
		}
	}
	if got := statusOf(99); got == plan.Unchanged || !strings.Contains(string(got), "99") {
		t.Errorf("99 is %q", got)
	}
}
