package notify

import (
	"bufio"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/settings"
)

// ebb is a run in which one of two hosts failed.
func ebb() *News {
	k := &record.Run{Head: record.Head{Number: 12, Run: "0198-run", Mode: "apply", Who: "maren", Started: time.Now()}}
	for i, o := range []record.Outcome{record.OutFailed, record.OutChanged} {
		h := &record.Host{}
		h.Name, h.State, h.Outcome = fmt.Sprintf("gauge-%02d", i+1), record.Reached, o
		k.Hosts = append(k.Hosts, h)
	}
	k.Hosts[0].Failed, k.Hosts[0].Tasks = 1, []record.Task{{Kind: "file", Name: "/etc/motd", Status: plan.Failed,
		Message: "under water"}}
	return &News{Project: "pier", Summary: k.Summary(), Run: k,
		Report: func(form string) ([]byte, error) { return []byte("the report as " + form + "\n.\nwith a dot\n"), nil }}
}

// named reads one [notify.NAME] out of the settings.
func named(t *testing.T, text string) *settings.Notify {
	t.Helper()
	var ps problem.Problems
	s := settings.Load(fstest.MapFS{settings.File: {Data: []byte("project = \"pier\"\n[notify.keepers]\n" + text)}},
		&ps)
	if err := ps.Err(); err != nil || len(s.Notify) != 1 {
		t.Fatalf("the settings: %v", err)
	}
	return &s.Notify[0]
}

func key(string) ([]byte, error) { return []byte("salt water\n"), nil }

func TestWebhook(t *testing.T) {
	calls, status := 0, []int{503, 429, 204}
	var body []byte
	var got *http.Request
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ = io.ReadAll(r.Body)
		got = r
		w.WriteHeader(status[min(calls, len(status)-1)])
		calls++
	}))
	defer server.Close()
	to := named(t, "if = \"run.failed > 0 && run.mode == 'apply'\"\nwebhook = \""+server.URL+"/tide\"\nkey_file "+
		"= \"hook.key\"\n")
	notifier := &Notifier{File: key, Wait: time.Millisecond}
	if err := notifier.Notify(t.Context(), to, ebb()); err != nil || calls != 3 {
		t.Fatalf("reported in %d calls: %v", calls, err)
	}
	var e map[string]any
	if err := json.Unmarshal(body, &e); err != nil || e["specversion"] != "1.0" || e["id"] != "0198-run" ||
		e["subject"] != "run/12" ||
		e["type"] != "jadekettle.run.ended" || !strings.Contains(string(body), `"message":"under water"`) ||
		!strings.HasPrefix(got.Header.Get("Content-Type"), "application/cloudevents+json") {
		t.Errorf("the event is %s (%v)", body, err)
	}
	// checked as RFC 9421, 3.2 has it
	input := strings.TrimPrefix(got.Header.Get("Signature-Input"), "run=")
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	base := "\"@method\": POST\n\"@target-uri\": " + server.URL + "/tide\n\"content-type\": " +
		got.Header.Get("Content-Type") +
		"\n\"content-digest\": " + digest + "\n\"@signature-params\": " + input
	mac := hmac.New(sha256.New, []byte("salt water"))
	mac.Write([]byte(base))
	if want := "run=:" + base64.StdEncoding.EncodeToString(mac.Sum(nil)) + ":"; got.Header.Get("Signature") != want ||
		got.Header.Get("Content-Digest") != digest || !strings.Contains(input, `keyid="keepers";alg="hmac-sha256"`) {
		t.Errorf("the signature is %q of %s", got.Header.Get("Signature"), input)
	}
	quiet := ebb()
	quiet.Summary.Failed = 0
	if err := notifier.Notify(t.Context(), to, quiet); err != nil || calls != 3 {
		t.Errorf("it is notified without a failure: %v", err)
	}
	for code, want := range map[int]int{404: 1, 302: 1, 500: 4} {
		calls, status = 0, []int{code}
		if err := notifier.Notify(t.Context(), to, ebb()); err == nil || calls != want ||
			strings.Contains(err.Error(), "/tide") {
			t.Errorf("%d: %d calls, %v", code, calls, err)
		}
	}
	gone := *to
	gone.Webhook = "http://127.0.0.1:1/a-secret"
	if err := notifier.Notify(t.Context(), &gone, ebb()); err == nil || strings.Contains(err.Error(), "a-secret") {
		t.Errorf("to nowhere: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := notifier.Notify(ctx, to, ebb()); err == nil {
		t.Error("stopped, it says nothing")
	}
}

// post office is a small SMTP server, which refuses the first mail for now.
func office(t *testing.T) (address string, mails <-chan string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	out := make(chan string, 4)
	go func() {
		for n := 0; ; n++ {
			c, err := l.Accept()
			if err != nil {
				return
			}
			serve(c, n == 0, out)
		}
	}()
	return l.Addr().String(), out
}

func serve(c net.Conn, refuses bool, out chan<- string) {
	defer c.Close()
	say := func(line string) { fmt.Fprintf(c, "%s\r\n", line) }
	say("220 saltmarsh.example.org")
	r := bufio.NewReader(c)
	var text strings.Builder
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		switch verb, _, _ := strings.Cut(strings.TrimSpace(line), " "); strings.ToUpper(verb) {
		case "EHLO":
			say("250-saltmarsh.example.org")
			say("250 AUTH PLAIN")
		case "AUTH":
			text.WriteString(line)
			say("235 come in")
		case "MAIL", "RCPT":
			if text.WriteString(line); refuses {
				say("451 the tide is too high")
				continue
			}
			say("250 ok")
		case "DATA":
			say("354 go on")
			for line != ".\r\n" {
				if line, err = r.ReadString('\n'); err != nil {
					return
				}
				text.WriteString(line)
			}
			say("250 taken")
			out <- text.String()
		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 ok")
		}
	}
}

func TestMail(t *testing.T) {
	at, mails := office(t)
	to := named(t, "mail = [\"maren@example.org\", \"ottokar@example.org\"]\nfrom = "+
		"\"kettle@example.org\"\nserver = \""+at+
		"\"\nuser = \"kettle\"\npassword_file = \"mail.password\"\nas = \"html\"\n")
	if err := (&Notifier{File: key, Wait: time.Millisecond}).Notify(t.Context(), to, ebb()); err != nil {
		t.Fatal(err)
	}
	envelope, text, _ := strings.Cut(<-mails, "From: ")
	if strings.Count(envelope, "RCPT TO:") != 2 || !strings.Contains(envelope,
		base64.StdEncoding.EncodeToString([]byte("\x00kettle\x00salt water"))) {
		t.Errorf("the envelope is %s", envelope)
	}
	m, err := mail.ReadMessage(strings.NewReader("From: " + strings.TrimSuffix(text, ".\r\n")))
	if err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(m.Body)
	if s := m.Header.Get("Subject"); !strings.HasPrefix(s, "Run 12, apply: 2 hosts") || strings.Contains(s, "\n") {
		t.Errorf("the subject is %q", s)
	}
	if !strings.Contains(string(body), "the report as text") ||
		!strings.Contains(string(body), base64.StdEncoding.EncodeToString([]byte("the report as html"))[:20]) {
		t.Errorf("the mail is %s", body)
	}
}

// TestMailOnTheWay: a server elsewhere that does not encrypt, or does so as nobody in particular, gets
// neither a password nor a mail.
func TestMailOnTheWay(t *testing.T) {
	to := &settings.Notify{Server: "mail.example.org:25", User: "kettle", From: "kettle@example.org",
		Mail: []string{"maren@example.org"}}
	for offers, want := range map[string]string{"": "does not support STARTTLS, so nothing is sent",
		"250-STARTTLS\r\n": "mail.example.org:25: "} {
		ours, theirs := net.Pipe()
		heard := make(chan string)
		go func() {
			defer theirs.Close()
			fmt.Fprint(theirs, "220 saltmarsh.example.org\r\n")
			r, all := bufio.NewReader(theirs), ""
			for {
				line, err := r.ReadString('\n')
				if all += line; err != nil {
					heard <- all
					return
				}
				answer := "250 ok\r\n"
				switch {
				case strings.HasPrefix(line, "EHLO"):
					answer = "250-saltmarsh.example.org\r\n" + offers + "250 AUTH PLAIN\r\n"
				case strings.HasPrefix(line, "STARTTLS"):
					answer = "454 not now\r\n"
				}
				fmt.Fprint(theirs, answer)
			}
		}()
		err := hand(ours, "mail.example.org", to, "salt water", []byte("ebb"), false)
		ours.Close()
		if all := <-heard; err == nil || !strings.Contains(err.Error(), want) || strings.Contains(all, "AUTH") ||
			strings.Contains(all, "MAIL") {
			t.Errorf("offered %q: %v, and it heard %q", offers, err, all)
		}
	}
}

func TestCommand(t *testing.T) {
	out := filepath.Join(t.TempDir(), "reported")
	to := named(t, "command = [\"sh\", \"-c\", \"cat > "+out+"; echo $JADEKETTLE_RUN >> "+out+"\"]\nas = "+
		"\"markdown\"\n")
	if err := (&Notifier{}).Notify(t.Context(), to, ebb()); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(out); err != nil || !strings.HasPrefix(string(text), "the report as markdown") ||
		!strings.HasSuffix(string(text), "\n12\n") {
		t.Errorf("it was sent %q (%v)", text, err)
	}
	broken := named(t, "command = [\"sh\", \"-c\", \"echo no pier; exit 3\"]\n")
	if err := (&Notifier{Wait: time.Hour}).Notify(t.Context(), broken, ebb()); err == nil ||
		!strings.Contains(err.Error(), "exit status 3: no pier") {
		t.Errorf("a command that fails: %v", err)
	}
	empty := named(t, "webhook = \"http://127.0.0.1:1/\"\nkey_file = \"k\"\n")
	notifier := &Notifier{File: func(string) ([]byte, error) { return nil, errors.New("no such file") }}
	if err := notifier.Notify(t.Context(), empty, ebb()); err == nil || !strings.Contains(err.Error(), "no such file") {
		t.Errorf("without its key: %v", err)
	}
}

func TestMistakesInTheSettings(t *testing.T) {
	for text, want := range map[string]string{
		"webhook = \"hooks.example.org\"\n":                         "is not the address of a web server",
		"mail = [\"maren\"]\nfrom = \"a@example.org\"\n":            "invalid mail address",
		"mail = [\"maren@example.org\\nBcc: x\"]\n":                 "invalid mail address",
		"mail = [\"maren@example.org\"]\n":                          "has no sender",
		"if = \"run.tide > 0\"\ncommand = [\"true\"]\n":             "tide",
		"if = \"host.name == ''\"\ncommand = [\"true\"]\n":          "reads host",
		"command = [\"true\"]\nwebhook = \"http://example.org/\"\n": "exactly one of them",
		"comand = [\"true\"]\n":                                     "unknown key \"comand\"",
		"command = [\"true\"]\nas = \"pdf\"\n":                      `invalid as: "pdf"`,
		"":                                                          "has 0 of webhook",
	} {
		var ps problem.Problems
		settings.Load(fstest.MapFS{settings.File: {Data: []byte("project = \"pier\"\n[notify.keepers]\n" + text)}}, &ps)
		said := ""
		for _, p := range ps.List() {
			said += p.Place.String() + ": " + p.What + " " + p.Do + "\n"
		}
		if !strings.Contains(said, want) {
			t.Errorf("%q: it says %s", text, said)
		}
	}
}
