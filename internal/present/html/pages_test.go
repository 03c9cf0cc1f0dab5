package html

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/history"
)

// hostile is what a host could say to get at whoever reads the page.
const hostile = `</script><script>document.title = "flooded"</script><img src=x onerror="document.title='flooded'">`

const manifest = "# what every gauge has\n[file.\"/etc/motd\"]\ncontent = \"High water\\n\"\n\n" +
	"[package.tide-logger]\nversion = \"newest\"\n"

// night is a run of so many hosts and tasks, of which one host fails and one is not reached.
func night(hosts, tasks int) *Page {
	k := &record.Run{Head: record.Head{Number: 12, Run: "0198", Mode: "apply", State: record.Ended, Who: "maren",
		Machine: "desk",
		Started: time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC), Seconds: 9, Code: 1,
		Command: []string{"apply", "--all"}}}
	for i := range hosts {
		h := &record.Host{}
		h.Name, h.State, h.Outcome, h.Seconds, h.After = fmt.Sprintf("gauge-%03d", i+1), record.Reached,
			record.OutUnchanged, 4, float64(i%5)
		for j := range tasks {
			t := record.Task{Kind: "file", Name: fmt.Sprintf("/srv/tide/%d", j), Status: plan.Unchanged,
				Manifest: "manifests/gauge.toml",
				Line:     2, After: h.After + float64(j)*4/float64(tasks), Seconds: 4 / float64(tasks)}
			switch {
			case j == 0:
				t.Name, t.Status, t.Labels = "/etc/motd", plan.Changed, []string{"greeting"}
				t.Changes = []plan.Change{{What: "content", Was: "3 bytes", Becomes: "11 bytes",
					Diff: "--- a\n+++ b\n-Low\n+High water\n"}}
				h.Changed++
			case j == 1 && i == 0:
				t.Kind, t.Name, t.Status, t.Line = "package", "tide-logger", plan.Failed, 5
				t.Message, t.Output = "the pier is under water "+hostile, hostile
				h.Failed++
			default:
				h.Unchanged++
			}
			h.Tasks = append(h.Tasks, t)
		}
		switch {
		case h.Failed > 0:
			h.Outcome = record.OutFailed
		case h.Changed > 0:
			h.Outcome = record.OutChanged
		default:
			h.Outcome = record.OutUnchanged
		}
		if i == 1 {
			h.State, h.Outcome, h.Tasks, h.Message = record.NotReached, record.OutNotReached, nil,
				"no route to the pier"
		}
		k.Hosts = append(k.Hosts, h)
	}
	return &Page{Run: k, Text: func(string) ([]byte, error) { return []byte(manifest), nil },
		Facts: func(host string) (map[string]string, error) {
			return map[string]string{"hostname": host, "os.version_id": "12", "kernel.release": hostile}, nil
		}}
}

// browser opens a page in a headless Chromium, or skips where there is none. What goes wrong
// in the page fails the test.
func browser(t *testing.T, r *Page) (context.Context, string) {
	t.Helper()
	at := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if p, err := exec.LookPath(name); err == nil && at == "" {
			at = p
		}
	}
	if at == "" {
		t.Skip("no Chromium (Debian's package chromium)")
	}
	file := filepath.Join(t.TempDir(), "run.html")
	var b bytes.Buffer
	if err := WriteRun(&b, r); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, b.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := chromedp.NewExecAllocator(t.Context(), append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(at),
		chromedp.NoSandbox, chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true),
		chromedp.WindowSize(1280, 800))...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	ctx, cancel = context.WithTimeout(ctx, 4*time.Minute)
	t.Cleanup(cancel)
	if err := chromedp.Listen(ctx, func(e any) {
		switch e := e.(type) {
		case *runtime.EventExceptionThrown:
			t.Errorf("the page's script fails: %s", e.ExceptionDetails.Text)
		case *log.EventEntryAdded:
			t.Errorf("the page complains: %s", e.Entry.Text)
		}
	}); err != nil {
		t.Fatal(err)
	}
	call(t, ctx, log.Enable, cdp.Empty{})
	return ctx, "file://" + file
}

// do takes steps in the page.
func do(t *testing.T, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	if err := chromedp.Do(ctx, steps...); err != nil {
		t.Fatal(err)
	}
}

// call calls the browser itself.
func call[P, R any](t *testing.T, ctx context.Context, c cdp.Command[P, R], params P) {
	t.Helper()
	if _, err := chromedp.Call(ctx, c, params); err != nil {
		t.Fatal(err)
	}
}

// evaluate runs a script in the page.
func evaluate[T any](t *testing.T, ctx context.Context, script string) T {
	t.Helper()
	out, err := chromedp.Run(ctx, chromedp.Evaluate[T](script))
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// becomes waits until an expression in the page has the value that it should have.
func becomes(t *testing.T, ctx context.Context, expression, want string) {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(20 * time.Millisecond) {
		// what does not exist yet is an error of the script
		got, err := chromedp.Run(ctx, chromedp.Evaluate[string]("String("+expression+")"))
		if err == nil && got == want {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%s is %q, not %q (%v)", expression, got, want, err)
		}
	}
}

const rows = `[...document.querySelectorAll("#tasks-table tbody tr:not(.more)")]`

func TestThePageOfARun(t *testing.T) {
	ctx, at := browser(t, night(6, 4))
	do(t, ctx, chromedp.Navigate(at))
	becomes(t, ctx, "document.title", "Run 12: 6 hosts: 1 failed, 1 not reached, 4 changed")
	becomes(t, ctx, `document.querySelectorAll("#failures article").length`, "2")
	becomes(t, ctx, `document.querySelector("#failures .here").textContent.trim()`, "5[package.tide-logger]")
	becomes(t, ctx, rows+`.length`, "20")
	becomes(t, ctx, rows+`[0].id`, "task/gauge-001/package/tide-logger")

	// the filter is in the address, and an address brings the filter back
	do(t, ctx, chromedp.SetValue(`#filter [name=status]`, "changed"))
	evaluate[bool](t, ctx, `document.querySelector("#filter [name=status]").dispatchEvent(new Event("input", `+
		`{bubbles: true}))`)
	becomes(t, ctx, `document.getElementById("count").textContent`, "5 of 20 tasks")
	becomes(t, ctx, `location.hash`, "#tasks?status=changed")
	do(t, ctx, chromedp.Navigate(at+"#tasks?host=gauge-003&q=water&label=greeting&sort=-took"), chromedp.Reload())
	becomes(t, ctx, rows+`.map((r) => r.id).join()`, "task/gauge-003/file//etc/motd")
	becomes(t, ctx, `document.querySelector("#filter [name=label]").value`, "greeting")
	becomes(t, ctx, `document.querySelector("th[data-key=took]").getAttribute("aria-sort")`, "descending")

	// every task has an address, which opens it with what differed and its lines, also where
	// the filter leaves it out
	do(t, ctx, chromedp.Navigate(at+"#task/gauge-006/file//etc/motd"))
	becomes(t, ctx, `document.querySelector("tr.more .plus").textContent.trim()`, "+High water")
	// whatever would close it has come to its turn once two more frames are drawn
	evaluate[bool](t, ctx, `requestAnimationFrame(() => requestAnimationFrame(() => { window.later = true })) > 0`)
	becomes(t, ctx, `window.later`, "true")
	if got := evaluate[string](t, ctx,
		`location.hash + document.querySelectorAll("tr.more").length`); got != "#task/gauge-006/file//etc/motd1" {
		t.Errorf("a moment later there is %s", got)
	}
	do(t, ctx, chromedp.Navigate(at+"#task/gauge-006/file//etc/motd"), chromedp.Reload())
	becomes(t, ctx, `document.querySelector("tr.more .plus").textContent.trim()`, "+High water")
	becomes(t, ctx, `document.querySelector("tr.more .lines").textContent.includes("content =")`, "true")
	becomes(t, ctx, `document.activeElement.textContent`, "file /etc/motd")
	do(t, ctx, chromedp.KeyEvent(kb.Enter)) // the keyboard closes it again
	becomes(t, ctx, `document.querySelectorAll("tr.more").length`, "0")
	do(t, ctx, chromedp.Navigate(at+"#file/manifests/gauge.toml:5"), chromedp.Reload())
	becomes(t, ctx, `document.getElementById("file/manifests/gauge.toml").open`, "true")

	// facts are searched, hosts are sorted and filtered, and / leads to the words
	do(t, ctx, chromedp.SendKeys("#facts-words", "version gauge-004"))
	becomes(t, ctx, `document.querySelector("#facts-table tbody").textContent`, "gauge-004os.version_id12")
	do(t, ctx, chromedp.Click("#hosts-table th:nth-child(3) button"), chromedp.Click("#hosts-table th:nth-child(3) "+
		"button"))
	becomes(t, ctx, `document.querySelector("#hosts-table tbody tr").id`, "host/gauge-001")
	do(t, ctx, chromedp.SendKeys("[data-rows=hosts-table]", "route"))
	becomes(t, ctx, `[...document.querySelectorAll("#hosts-table tbody tr")].filter((r) => !r.hidden).map((r) => `+
		`r.id).join()`, "host/gauge-002")
	evaluate[string](t, ctx, "document.activeElement.blur() ?? ''")
	do(t, ctx, chromedp.KeyEvent("/"))
	becomes(t, ctx, `document.activeElement.name`, "q")
	// nothing of the host was run
	becomes(t, ctx, "document.title", "Run 12: 6 hosts: 1 failed, 1 not reached, 4 changed")
	becomes(t, ctx, `document.querySelectorAll("svg rect.task").length`, "20")
	for _, mode := range []string{"light", "dark"} {
		call(t, ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{
			Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: mode}}})
		want := map[string]string{"light": "rgb(251, 250, 246)", "dark": "rgb(21, 32, 31)"}[mode]
		becomes(t, ctx, "getComputedStyle(document.body).backgroundColor", want)
	}
	call(t, ctx, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Media: "print"})
	becomes(t, ctx, `getComputedStyle(document.querySelector("nav")).display`, "none")
}

// TestAPageOfManyTasks draws 500 hosts with 200 tasks each, and searches them.
func TestAPageOfManyTasks(t *testing.T) {
	ctx, at := browser(t, night(500, 200))
	do(t, ctx, chromedp.Navigate(at))
	becomes(t, ctx, `document.getElementById("count").textContent`, "99800 tasks")
	becomes(t, ctx, rows+`.length`, "200")
	do(t, ctx, chromedp.SendKeys("#filter [name=q]", "gauge-123 tide/77"))
	becomes(t, ctx, rows+`.map((r) => r.id).join()`, "task/gauge-123/file//srv/tide/77")
	load := evaluate[float64](t, ctx, `performance.timing.loadEventEnd - performance.timing.navigationStart`)
	t.Logf("loaded in %.0f ms", load)
}

func TestPagesWithoutAScript(t *testing.T) {
	var b bytes.Buffer
	if err := WriteRun(&b, night(3, 3)); err != nil {
		t.Fatal(err)
	}
	page := b.String()
	for _, want := range []string{"no route to the pier", `id="file/manifests/gauge.toml:5"`, `id="host/gauge-003"`,
		"&lt;/script&gt;&lt;script&gt;"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page does not contain %q", want)
		}
	}
	if strings.Contains(page, hostile[:len("</script><script>")]+"document") || strings.Contains(page, "http://") ||
		strings.Contains(page, "https://") {
		t.Error("the page runs what a host said, or leads out")
	}
	b.Reset()
	err := WriteFront(&b, &Front{Title: "Hosts and runs",
		RunPage:  func(n int) string { return fmt.Sprintf("runs/%d.html", n) },
		HostPage: func(h string) string { return "hosts/" + h + ".html" },
		Hosts: []history.HostStatus{{Host: "gauge-01", Condition: history.Failing, Why: hostile, SinceRun: 3,
			AppliedBy: 4}},
		Runs: []Row{{Summary: record.Summary{Head: record.Head{Number: 4, Mode: "apply"}}, Outcome: "1 failed",
			Class: "failed"}}})
	if err != nil || strings.Contains(b.String(), hostile) || !strings.Contains(b.String(), `href="runs/4.html"`) ||
		!strings.Contains(b.String(), `href="hosts/gauge-01.html"`) {
		t.Errorf("the front page is (%v)\n%s", err, b.String())
	}
	b.Reset()
	empty := &Page{Run: &record.Run{Head: record.Head{Number: 1, Mode: "apply", State: record.Interrupted}}}
	if err := WriteRun(&b, empty); err != nil || !strings.Contains(b.String(), ">interrupted<") {
		t.Errorf("a run of nothing: %v", err)
	}
}

// BenchmarkWriteRun writes a page of 500 hosts with 200 tasks each.
func BenchmarkWriteRun(b *testing.B) {
	r := night(500, 200)
	for b.Loop() {
		var out bytes.Buffer
		if err := WriteRun(&out, r); err != nil {
			b.Fatal(err)
		}
		b.SetBytes(int64(out.Len()))
	}
}
