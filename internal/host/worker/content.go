package worker

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/wire"
)

// content asks the controller for one content and reads it as it comes.
func (s *session) content(c plan.Content) (io.ReadCloser, error) {
	if err := s.want([]string{c.SHA256}); err != nil {
		return nil, err
	}
	return &stream{s: s, hash: c.SHA256, left: c.Size}, nil
}

func (s *session) want(hashes []string) error {
	return s.send(wire.Message{Want: &wire.Want{SHA256: hashes}})
}

// maxHashes bounds one Want, so that it fits into a frame.
const maxHashes = 1024

// texts asks for small contents together.
func (s *session) texts(list []plan.Content) (map[string]string, error) {
	out := make(map[string]string, len(list))
	sizes := map[string]int64{}
	var hashes []string
	for _, c := range list {
		if _, twice := sizes[c.SHA256]; !twice {
			sizes[c.SHA256] = c.Size
			hashes = append(hashes, c.SHA256)
		}
	}
	for len(hashes) > 0 {
		batch := hashes[:min(len(hashes), maxHashes)]
		hashes = hashes[len(batch):]
		if err := s.want(batch); err != nil {
			return nil, err
		}
		for _, h := range batch {
			st := &stream{s: s, hash: h, left: sizes[h]}
			var b strings.Builder
			if _, err := io.Copy(&b, st); err != nil {
				return nil, err
			}
			out[h] = b.String()
		}
	}
	return out, nil
}

// ask has the controller ask a probe, and waits for its answer. It may be called
// from many goroutines.
func (s *session) ask(t plan.Task) error {
	to := make(chan *wire.Answer, 1)
	s.asked.Store(t.ID, to)
	if err := s.send(wire.Message{Ask: &wire.Ask{Task: t.ID}}); err != nil {
		return err
	}
	a, err := next(s, to)
	if err != nil || a.Wrong == "" {
		return err
	}
	return problem.Errorf("%s", a.Wrong).Remedy("%s", a.Do)
}

// stream is one content on its way.
type stream struct {
	s    *session
	hash string
	left int64 // bytes that may still come
	buf  []byte
	last bool
}

// Read gives what has come, and waits when nothing has.
func (st *stream) Read(p []byte) (int, error) {
	for len(st.buf) == 0 {
		if st.last {
			return 0, io.EOF
		}
		c, err := next(st.s, st.s.chunks)
		if err != nil {
			return 0, err
		}
		switch {
		case c.SHA256 != st.hash:
			return 0, errors.New("the controller did not send the requested content")
		case c.Missing != "":
			st.last = true
			return 0, fmt.Errorf("the controller cannot send the content: %s", c.Missing)
		case int64(len(c.Data)) > st.left:
			return 0, errors.New("the content is longer than announced")
		}
		st.left -= int64(len(c.Data))
		st.buf, st.last = c.Data, c.Last
	}
	n := copy(p, st.buf)
	st.buf = st.buf[n:]
	return n, nil
}

// Close takes what is still on its way, so that the next content can follow.
func (st *stream) Close() error {
	st.buf = nil
	for !st.last {
		c, err := next(st.s, st.s.chunks)
		if err != nil {
			return err
		}
		st.last = c.Last || c.Missing != ""
	}
	return nil
}
