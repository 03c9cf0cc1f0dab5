package worker

import (
	"context"
	"strings"
	"time"

	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/machine"
)

// exec runs one command and reports what came of it. It takes no lock, since it is not a run,
// and it ends the command when nobody is there any more to hear of it.
func (s *session) exec(ctx context.Context, e *wire.Exec) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-s.lost:
			cancel()
		case <-ctx.Done():
		}
	}()
	begun := time.Now()
	done := wire.Executed{}
	r := &runner{s: s}
	r.watched(ctx, 0, 0, func(ctx context.Context) {
		out, err := s.m.Run(ctx, machine.Command{Args: e.Args, Limit: e.Limit})
		if err != nil {
			done.Wrong = err.Error()
			return
		}
		done.Code, done.Output = out.Code, out.Combined.Clean(
			func(s string) string { return strings.ToValidUTF8(s, "\uFFFD") })
	})
	done.Took = time.Since(begun)
	return s.send(wire.Message{Executed: &done})
}
