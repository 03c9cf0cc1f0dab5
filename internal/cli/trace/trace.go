// Package trace tells a run as an OpenTelemetry trace, once it is over: a span for the run,
// one in it for each host, and one in that for each task that changed, failed or took its
// time. The trace has the identity of the run.
package trace

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	otel "go.opentelemetry.io/otel/trace"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/fleet/run"
	"jadekettle/internal/history"
)

// mostSpans bounds a trace; the tasks beyond it are left out.
const mostSpans = 40_000

// worth is from how long on a task that was unchanged has a span.
const worth = 10 * time.Millisecond

// Send sends the trace of a run to an endpoint, by OTLP over HTTP. An empty endpoint is that
// of the environment, as the OpenTelemetry specification has it.
func Send(ctx context.Context, endpoint, version string, k *history.Kept) error {
	var opts []otlptracehttp.Option
	if endpoint != "" {
		opts = append(opts, otlptracehttp.WithEndpointURL(strings.TrimSuffix(endpoint, "/")+"/v1/traces"))
	}
	exporter, err := otlptracehttp.New(ctx, opts...)
	if err != nil {
		return fmt.Errorf("the trace: %w", err)
	}
	p := sdk.NewTracerProvider(sdk.WithIDGenerator(identity(k.Run)), sdk.WithSampler(sdk.AlwaysSample()),
		sdk.WithBatcher(exporter, sdk.WithMaxQueueSize(mostSpans+1), sdk.WithBlocking()),
		sdk.WithResource(resource.NewSchemaless(attribute.String("service.name", "jadekettle"),
			attribute.String("service.version", version), attribute.String("host.name", k.Machine))))
	spans(ctx, p.Tracer("jadekettle"), k)
	if err := p.ForceFlush(ctx); err != nil {
		return fmt.Errorf("the trace: %w", err)
	}
	return p.Shutdown(ctx)
}

func spans(ctx context.Context, t otel.Tracer, k *history.Kept) {
	at := func(seconds float64) time.Time { return k.Started.Add(time.Duration(seconds * float64(time.Second))) }
	ctx, root := t.Start(ctx, k.Mode, otel.WithTimestamp(k.Started), otel.WithNewRoot(), otel.WithAttributes(
		attribute.Int("jadekettle.run.number", k.Number), attribute.String("jadekettle.run.id", k.Run),
		attribute.String("jadekettle.run.who", k.Who), attribute.String("jadekettle.env", k.Env),
		attribute.String("vcs.ref.head.revision", k.Revision)))
	n, failed := 1, false
	for i := range k.Hosts {
		h := &k.Hosts[i]
		if h.State == run.Off || n >= mostSpans {
			continue
		}
		n++
		of, span := t.Start(ctx, h.Name, otel.WithTimestamp(at(h.After)), otel.WithAttributes(
			attribute.String("jadekettle.host", h.Name), attribute.String("jadekettle.outcome", string(h.Outcome))))
		if h.Outcome != run.OutChanged && h.Outcome != run.OutUnchanged {
			failed = true
			span.SetStatus(codes.Error, h.Message)
		}
		for j := range h.Tasks {
			task := &h.Tasks[j]
			if task.Status == plan.LeftOut || task.Status == plan.Unchanged && task.Seconds < worth.Seconds() || n >= mostSpans {
				continue
			}
			n++
			_, s := t.Start(of, task.Kind+" "+task.Name, otel.WithTimestamp(at(task.After)), otel.WithAttributes(
				attribute.String("jadekettle.task.kind", task.Kind), attribute.String("jadekettle.task.name", task.Name),
				attribute.String("jadekettle.task.status", string(task.Status)), attribute.String("code.file.path", task.Manifest),
				attribute.Int("code.line.number", task.Line)))
			if task.Status == plan.Failed || task.Status == plan.Blocked {
				s.SetStatus(codes.Error, task.Message)
			}
			s.End(otel.WithTimestamp(at(task.After + task.Seconds)))
		}
		span.End(otel.WithTimestamp(at(h.After + h.Seconds)))
	}
	if failed {
		root.SetStatus(codes.Error, "not all hosts are as they should be")
	}
	root.End(otel.WithTimestamp(at(k.Seconds)))
}

// identity gives the trace that of the run, which is as long, and its spans some of their own.
type identity string

// NewIDs implements sdk.IDGenerator.
func (r identity) NewIDs(ctx context.Context) (otel.TraceID, otel.SpanID) {
	var id otel.TraceID
	if u, err := uuid.Parse(string(r)); err == nil {
		id = otel.TraceID(u)
	} else {
		rand.Read(id[:])
	}
	return id, r.NewSpanID(ctx, id)
}

// NewSpanID implements sdk.IDGenerator.
func (identity) NewSpanID(context.Context, otel.TraceID) otel.SpanID {
	var id otel.SpanID
	for binary.BigEndian.Uint64(id[:]) == 0 { // which stands for none
		rand.Read(id[:])
	}
	return id
}
