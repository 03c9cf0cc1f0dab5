// Package notify notifies others that a run has ended: by a webhook, a mail or a command. What
// does not get through is tried again, with a longer wait each time, and given up in the end:
// the run itself is over and well kept by then.
package notify

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strings"
	"time"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/settings"
)

// News is what is reported.
type News struct {
	Project string // its identity
	Summary record.Summary
	Run     *record.Run
	// Report gives it in one of settings.NotifyForms.
	Report func(form string) ([]byte, error)
}

// Vars are what a condition may ask of the run.
func (n *News) Vars() map[string]any {
	b := &n.Summary
	notes := map[string]any{}
	for k, v := range b.Notes {
		notes[k] = v
	}
	return map[string]any{"mode": b.Mode, "code": int64(b.Code), "env": b.Env, "number": int64(b.Number), "who": b.Who,
		"machine": b.Machine, "seconds": b.Seconds, "hosts": int64(len(b.Hosts)), "changed": int64(b.Changed),
		"failed":    int64(b.Failed),
		"unchanged": int64(b.Unchanged), "not_reached": int64(b.NotReached), "not_started": int64(b.NotStarted),
		"tasks_changed": int64(b.TasksChanged), "tasks_failed": int64(b.TasksFailed), "notes": notes}
}

// Notifier sends notifications.
type Notifier struct {
	Client *http.Client // nil for one of its own
	// File reads a file with a key or a password, named as in the settings.
	File  func(name string) ([]byte, error)
	Dir   string        // where commands start: the project's folder
	Tries int           // how often it is tried; 0 for 4
	Wait  time.Duration // before the second try, and twice as long before each further one; 0 for a second
}

// limit is how long one try may take.
const limit = 10 * time.Second

// Notify sends one, if its condition holds.
func (t *Notifier) Notify(ctx context.Context, to *settings.Notify, n *News) error {
	if to.If != nil {
		yes, _, err := to.If.Bool(settings.RunVars(n.Vars(), n.Summary.Env))
		if err != nil || !yes {
			return err
		}
	}
	send, err := t.prepare(to, n)
	if err != nil {
		return err
	}
	wait := t.Wait
	if wait == 0 {
		wait = time.Second
	}
	tries := t.Tries
	if tries == 0 {
		tries = 4
	}
	for i := 1; ; i++ {
		one, cancel := context.WithTimeout(ctx, limit)
		err := send(one)
		cancel()
		var final *finalError
		if err == nil || i == tries || errors.As(err, &final) || ctx.Err() != nil {
			return err
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return err
		}
		wait *= 2
	}
}

// finalError is one that another try does not change.
type finalError struct{ error }

func (e *finalError) Unwrap() error { return e.error }

// prepare makes what is sent, once for all tries, so that who gets it twice can say.
func (t *Notifier) prepare(to *settings.Notify, n *News) (func(context.Context) error, error) {
	switch {
	case to.Webhook != "":
		return t.webhook(to, n)
	case len(to.Mail) > 0:
		return t.mail(to, n)
	}
	report, err := n.Report(to.As)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) error { return command(ctx, t.Dir, to.Command, report, n) }, nil
}

// cloudEvent is the form of CloudEvents 1.0 in JSON.
type cloudEvent struct {
	SpecVersion     string    `json:"specversion"`
	ID              string    `json:"id"`
	Source          string    `json:"source"`
	Type            string    `json:"type"`
	Subject         string    `json:"subject"`
	Time            time.Time `json:"time"`
	DataContentType string    `json:"datacontenttype"`
	Data            eventData `json:"data"`
}

type eventData struct {
	Sentence string `json:"sentence"`
	record.Summary
	Failures []eventFailure `json:"failures"` // the first of them
}

type eventFailure struct {
	Host    string `json:"host"`
	Kind    string `json:"kind"`
	Name    string `json:"name"`
	Message string `json:"message"`
}

// mostFailures is how many failures an event has at most.
const mostFailures = 50

// Event writes the event that a run has ended, as JSON.
func Event(n *News) ([]byte, error) {
	e := cloudEvent{SpecVersion: "1.0", ID: n.Run.Run, Source: "urn:jadekettle:project:" + n.Project,
		Type:    "jadekettle.run.ended",
		Subject: fmt.Sprintf("run/%d", n.Run.Number), DataContentType: "application/json",
		Time: n.Run.Started.Add(time.Duration(n.Run.Seconds * float64(time.Second))),
		Data: eventData{Sentence: n.Run.Sentence(), Summary: n.Summary, Failures: []eventFailure{}}}
	for _, h := range n.Run.Hosts {
		if h.Message != "" && len(e.Data.Failures) < mostFailures && h.Outcome != "disabled" {
			e.Data.Failures = append(e.Data.Failures, eventFailure{Host: h.Name, Message: h.Message})
		}
		for _, task := range h.Tasks {
			if task.Status == plan.Failed && len(e.Data.Failures) < mostFailures {
				e.Data.Failures = append(e.Data.Failures, eventFailure{h.Name, task.Kind, task.Name, task.Message})
			}
		}
	}
	return json.Marshal(e)
}

const eventType = "application/cloudevents+json; charset=utf-8"

func (t *Notifier) webhook(to *settings.Notify, n *News) (func(context.Context) error, error) {
	body, err := Event(n)
	if err != nil {
		return nil, err
	}
	var key []byte
	if to.KeyFile != "" {
		if key, err = t.secret(to.KeyFile); err != nil {
			return nil, err
		}
	}
	client := t.Client
	if client == nil {
		client = &http.Client{CheckRedirect: func(*http.Request,
			[]*http.Request) error {
			return http.ErrUseLastResponse
		}}
	}
	server := hostOf(to.Webhook)
	return func(ctx context.Context) error {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, to.Webhook, bytes.NewReader(body))
		if err != nil {
			return &finalError{fmt.Errorf("%s: %w", server, bare(err))}
		}
		r.Header.Set("Content-Type", eventType)
		r.Header.Set("User-Agent", "jadekettle")
		if key != nil {
			Sign(r, body, to.Name, key, time.Now())
		}
		answer, err := client.Do(r)
		if err != nil {
			return fmt.Errorf("%s: %w", server, bare(err))
		}
		defer answer.Body.Close()
		io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10))
		switch {
		case answer.StatusCode < 300:
			return nil
		case answer.StatusCode == http.StatusTooManyRequests || answer.StatusCode >= 500:
			return fmt.Errorf("%s responds with %s", server, answer.Status)
		}
		return &finalError{fmt.Errorf("%s responds with %s", server, answer.Status)}
	}, nil
}

// hostOf gives the server of an address. The rest of it is often what nobody else may know.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "the webhook"
	}
	return u.Scheme + "://" + u.Host
}

// bare takes the address out of an error of the HTTP client.
func bare(err error) error {
	var e *url.Error
	if errors.As(err, &e) {
		return e.Err
	}
	return err
}

// Sign signs a call and its body with HMAC-SHA256, as RFC 9421 (HTTP Message Signatures) and
// RFC 9530 (Digest Fields) have it. name says which key it is.
func Sign(r *http.Request, body []byte, name string, key []byte, now time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	r.Header.Set("Content-Digest", digest)
	params := fmt.Sprintf(`("@method" "@target-uri" "content-type" "content-digest");`+
		`created=%d;keyid="%s";alg="hmac-sha256"`,
		now.Unix(), name)
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n\"content-type\": %s\n\"content-digest\": %s\n"+
		"\"@signature-params\": %s",
		r.Method, r.URL, r.Header.Get("Content-Type"), digest, params)
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte(base))
	r.Header.Set("Signature-Input", "run="+params)
	r.Header.Set("Signature", "run=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}

// secret reads a file with a key or a password, of which the last line break is none.
func (t *Notifier) secret(name string) ([]byte, error) {
	text, err := t.File(name)
	if err != nil {
		return nil, &finalError{err}
	}
	if text = bytes.TrimRight(text, "\r\n"); len(text) == 0 {
		return nil, &finalError{problem.Errorf("%s is empty", name).Remedy("write the key or the password to it")}
	}
	return text, nil
}

// command runs a program with the report on its input. It is not a child of a shell, and has
// the number of the run in its environment.
func command(ctx context.Context, dir string, args []string, report []byte, n *News) error {
	c := exec.CommandContext(ctx, args[0], args[1:]...)
	c.Dir = dir
	c.Stdin = bytes.NewReader(report)
	c.Env = append(os.Environ(), fmt.Sprintf("JADEKETTLE_RUN=%d", n.Run.Number), "JADEKETTLE_RUN_ID="+n.Run.Run)
	c.WaitDelay = time.Second
	out, err := c.CombinedOutput()
	if err == nil {
		return nil
	}
	const most = 300
	said := strings.TrimSpace(string(out[max(0, len(out)-most):]))
	if said != "" {
		said = ": " + said
	}
	// it may have done half of what it does, which is not to be done twice
	return &finalError{fmt.Errorf("%s: %w%s", args[0], err, said)}
}
