package trace

import (
	"compress/gzip"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	spanpb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history"
)

func TestARunAsATrace(t *testing.T) {
	var spans []*spanpb.Span
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body := io.Reader(r.Body)
		if r.Header.Get("Content-Encoding") == "gzip" {
			body, _ = gzip.NewReader(r.Body)
		}
		data, _ := io.ReadAll(body)
		var got collector.ExportTraceServiceRequest
		if err := proto.Unmarshal(data, &got); err != nil || r.URL.Path != "/v1/traces" {
			t.Errorf("%s: %v", r.URL.Path, err)
		}
		for _, res := range got.ResourceSpans {
			for _, scope := range res.ScopeSpans {
				spans = append(spans, scope.Spans...)
			}
		}
	}))
	defer server.Close()
	began := time.Date(2026, 11, 29, 4, 0, 0, 0, time.UTC)
	k := &history.Kept{Head: history.Head{Number: 12, Run: "01a22781-bde3-7ed0-b145-41bf84282354", Mode: "apply", Started: began, Seconds: 5}}
	h := history.KeptHost{}
	h.Name, h.State, h.Outcome, h.After, h.Seconds = "gauge-01", run.Reached, run.OutFailed, 1, 3
	h.Tasks = []history.Task{{Kind: "file", Name: "/etc/motd", Status: plan.Failed, Message: "under water", After: 2, Seconds: 0.5},
		{Kind: "user", Name: "maren", Status: plan.Unchanged}}
	k.Hosts = []history.KeptHost{h}
	if err := Send(t.Context(), server.URL, "0.1", k); err != nil {
		t.Fatal(err)
	}
	by := map[string]*spanpb.Span{}
	for _, s := range spans {
		by[s.Name] = s
	}
	root, host, task := by["apply"], by["gauge-01"], by["file /etc/motd"]
	if len(spans) != 3 || root == nil || host == nil || task == nil {
		t.Fatalf("there are %d spans: %v", len(spans), by)
	}
	if string(host.ParentSpanId) != string(root.SpanId) || string(task.ParentSpanId) != string(host.SpanId) || len(root.ParentSpanId) > 0 {
		t.Error("they do not lie in one another")
	}
	if task.StartTimeUnixNano != uint64(began.Add(2*time.Second).UnixNano()) || task.EndTimeUnixNano-task.StartTimeUnixNano != 5e8 ||
		task.Status.Message != "under water" {
		t.Errorf("the task is %v", task)
	}
	if id := strings.ReplaceAll(k.Run, "-", ""); id[:8] != "01a22781" || string(root.TraceId[:4]) != "\x01\xa2\x27\x81" {
		t.Errorf("the trace has the identity %x", root.TraceId)
	}
	if err := Send(t.Context(), "http://127.0.0.1:1", "0.1", &history.Kept{}); err == nil {
		t.Error("to nowhere it is sent")
	}
}
