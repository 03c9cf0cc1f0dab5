// Package wire is the protocol between the controller and a worker: messages
// in CBOR (RFC 8949), each in a frame of four length bytes, most significant
// first, and at most [MaxFrame] bytes. It reads and writes nothing but the
// io.Reader and io.Writer it is given.
//
// The controller opens with Start. The worker answers Hello, then Busy, or
// Collected (when an earlier run's results were never delivered) and Facts.
// The controller sends the plan in Plan parts, right behind Start where no fact
// can change it; the worker asks for contents
// with Want, gets Chunks, sends Results as tasks end, and Done. Bye from the
// controller says that all of it arrived, and the worker's own Bye that it has
// let the host go. Either side may Ping at any time. A worker that is to reboot
// its host says Rebooting and ends; a new session goes on by Start's Resume.
package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"reflect"
	"sync"
	"time"

	"github.com/fxamacker/cbor/v2"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
)

// Format is the number of this protocol; both sides must have the same, which
// they have because the controller sends the worker it needs.
const Format = 1

// MaxFrame bounds a frame's payload in bytes.
const MaxFrame = 1 << 20

// ChunkSize is how much of a file's content travels in one message.
const ChunkSize = 128 << 10

// Message is the envelope: exactly one field is set.
type Message struct {
	Start     *Start       `cbor:"1,keyasint,omitempty"`
	Hello     *Hello       `cbor:"2,keyasint,omitempty"`
	Busy      *Busy        `cbor:"3,keyasint,omitempty"`
	Collected *Collected   `cbor:"4,keyasint,omitempty"`
	Facts     *facts.Facts `cbor:"5,keyasint,omitempty"`
	Plan      *Plan        `cbor:"6,keyasint,omitempty"`
	Want      *Want        `cbor:"7,keyasint,omitempty"`
	Chunk     *Chunk       `cbor:"8,keyasint,omitempty"`
	Results   *Results     `cbor:"9,keyasint,omitempty"`
	Done      *Done        `cbor:"10,keyasint,omitempty"`
	Bye       *Bye         `cbor:"11,keyasint,omitempty"`
	Ping      *Ping        `cbor:"12,keyasint,omitempty"`
	Stop      *Stop        `cbor:"13,keyasint,omitempty"`
	Fault     *Fault       `cbor:"14,keyasint,omitempty"`
	Captured  *Captured    `cbor:"15,keyasint,omitempty"`
	Ask       *Ask         `cbor:"16,keyasint,omitempty"`
	Answer    *Answer      `cbor:"17,keyasint,omitempty"`
	Rebooting *Rebooting   `cbor:"18,keyasint,omitempty"`
	Progress  *Progress    `cbor:"19,keyasint,omitempty"`
	Executed  *Executed    `cbor:"20,keyasint,omitempty"`
	Leaving   *Leaving     `cbor:"21,keyasint,omitempty"`
	Foreseen  *Foreseen    `cbor:"22,keyasint,omitempty"`
	Go        *Go          `cbor:"23,keyasint,omitempty"`
	Prove     *Prove       `cbor:"24,keyasint,omitempty"`
	Proved    *Proved      `cbor:"25,keyasint,omitempty"`
}

// Start opens a session. With OnlyFacts the worker takes no lock, sends the
// facts and ends.
type Start struct {
	Format    int      `cbor:"1,keyasint"`
	Run       plan.Run `cbor:"2,keyasint"`
	OnlyFacts bool     `cbor:"3,keyasint,omitempty"`
	Services  bool     `cbor:"4,keyasint,omitempty"` // read facts.services too, which costs a command
	// Capture, when not empty, asks for what is there and for nothing else. A Ref
	// without a name means all of its kind.
	Capture []value.Ref `cbor:"5,keyasint,omitempty"`
	// Planned says that the plan follows at once. The facts are sent all the
	// same, while the tasks are compared.
	Planned bool `cbor:"6,keyasint,omitempty"`
	// Own are the custom facts that are asked for; with OwnFiles those that
	// lie on the host as well.
	Own      []OwnFact `cbor:"7,keyasint,omitempty"`
	OwnFiles bool      `cbor:"8,keyasint,omitempty"`
	// Resume goes on with a plan, whose host was to be rebooted.
	Resume *Resume `cbor:"9,keyasint,omitempty"`
	// Foresee has the worker report in Foreseen what it would do, and wait for Go before it
	// does it.
	Foresee bool `cbor:"11,keyasint,omitempty"`
	// Guard is how long the host waits, after a change that may have cut us off, for
	// somebody to get in again before it puts back what was there. 0 is not at all.
	Guard time.Duration `cbor:"12,keyasint,omitempty"`
	Login string        `cbor:"13,keyasint,omitempty"` // the account that logs in, as far as is known
	// Unproved says that there is no guard though one is wanted: the run is one of the machine over
	// itself, and no other is there to get in again.
	Unproved bool `cbor:"17,keyasint,omitempty"`
	// Past says for how long, and in how many bytes, the host keeps what was there before its
	// runs.
	Past Past `cbor:"14,keyasint,omitzero"`
	// Undo has the worker put back what an earlier run changed; the plan is empty.
	Undo *Undo `cbor:"15,keyasint,omitempty"`
	// Digest has every Result of a preview say by which declaration it came about.
	Digest bool `cbor:"16,keyasint,omitempty"`
	// Exec asks for one command to be run, and for nothing else.
	Exec *Exec `cbor:"10,keyasint,omitempty"`
}

// Past bounds what a host keeps of what was there before its runs.
type Past struct {
	Age  time.Duration `cbor:"1,keyasint,omitempty"`
	Size int64         `cbor:"2,keyasint,omitempty"` // bytes; 0 keeps nothing
}

// Undo names a run whose changes are to be put back.
type Undo struct {
	Run   string      `cbor:"1,keyasint"`
	Tasks []value.Ref `cbor:"2,keyasint,omitempty"` // that changed in it, as far as the controller knows
}

// Exec is a command that somebody wants to be run.
type Exec struct {
	Args  []string      `cbor:"1,keyasint"`
	Limit time.Duration `cbor:"2,keyasint"`
}

// Executed is what became of an Exec. Wrong says why it could not be run, or did not end.
type Executed struct {
	Code   int           `cbor:"1,keyasint"`
	Output string        `cbor:"2,keyasint,omitempty"` // both streams as they came, head and tail
	Wrong  string        `cbor:"3,keyasint,omitempty"`
	Took   time.Duration `cbor:"4,keyasint,omitempty"`
}

// Resume says how far a plan has come.
type Resume struct {
	Rebooting `cbor:"1,keyasint"`
	Ended     []plan.Status `cbor:"2,keyasint"` // by task id; empty for those that have not
}

// Rebooting says that a task reboots the host, which ends the session. In answer to
// a Resume it says that the host is still in the boot that is to end.
type Rebooting struct {
	Task int    `cbor:"1,keyasint"`
	Boot string `cbor:"2,keyasint"` // the id of the boot that ends; see random(4), boot_id
}

// OwnFact is a command whose output is a fact.
type OwnFact struct {
	Name  string        `cbor:"1,keyasint"`
	Args  []string      `cbor:"2,keyasint"`
	Text  bool          `cbor:"3,keyasint,omitempty"` // it is text even where it is JSON
	Limit time.Duration `cbor:"4,keyasint"`
}

// Captured answers a Capture, in several parts when it is long.
type Captured struct {
	List []plan.Captured `cbor:"1,keyasint"`
	Last bool            `cbor:"2,keyasint"`
}

// Hello is the worker's first message.
type Hello struct {
	Format int `cbor:"1,keyasint"`
}

// Busy says that another run holds the host.
type Busy struct {
	Holder plan.Run `cbor:"1,keyasint"`
	Since  int64    `cbor:"2,keyasint"` // Unix seconds; 0 when unknown
}

// Collected brings results of an earlier run of this project whose
// connection broke. There may be several, one for each part.
type Collected struct {
	Run     string        `cbor:"1,keyasint"`
	Results []plan.Result `cbor:"2,keyasint"`
}

// Plan is a part of the plan, in order; the last says so.
type Plan struct {
	Tasks []plan.Task `cbor:"1,keyasint"`
	Last  bool        `cbor:"2,keyasint"`
}

// Want asks for contents by hash; they come in the order asked for.
type Want struct {
	SHA256 []string `cbor:"1,keyasint"`
}

// Chunk is a part of a content. Missing is set when the controller cannot
// give it, and says why.
type Chunk struct {
	SHA256  string `cbor:"1,keyasint"`
	Data    []byte `cbor:"2,keyasint"`
	Last    bool   `cbor:"3,keyasint"`
	Missing string `cbor:"4,keyasint,omitempty"`
}

// Ask has the controller ask the probe of a task.
type Ask struct {
	Task int `cbor:"1,keyasint"`
}

// Answer is how an Ask went: Wrong is empty when it went well.
type Answer struct {
	Task  int    `cbor:"1,keyasint"`
	Wrong string `cbor:"2,keyasint,omitempty"`
	Do    string `cbor:"3,keyasint,omitempty"`
}

// Foreseen is what an apply would do, in parts; the last says so.
type Foreseen struct {
	List []plan.Result `cbor:"1,keyasint,omitempty"`
	Last bool          `cbor:"2,keyasint,omitempty"`
}

// Go says that this is what is meant.
type Go struct{}

// Prove has the controller get in again, after a task that may have cut it off.
type Prove struct {
	Task int `cbor:"1,keyasint"`
}

// Proved says how that went: Wrong is empty when it went well.
type Proved struct {
	Wrong string `cbor:"1,keyasint,omitempty"`
	Task  int    `cbor:"2,keyasint,omitempty"` // of the question, so that a late answer proves nothing of another
	// Early says that no login was refused: each connection was closed before one.
	Early bool `cbor:"3,keyasint,omitempty"`
}

// Leaving says that tasks of the worker's own follow those of the plan: what is no longer declared
// and is taken away.
type Leaving struct {
	Refs []value.Ref `cbor:"1,keyasint"`
}

// Progress reports a task that takes long.
type Progress struct {
	Task int           `cbor:"1,keyasint"`
	Took time.Duration `cbor:"2,keyasint"`           // so far
	Line string        `cbor:"3,keyasint,omitempty"` // what its command printed last
	Try  int           `cbor:"4,keyasint,omitempty"` // which one it is, from 2 on
}

// Results are outcomes of tasks, in the order in which they ended.
type Results struct {
	List []plan.Result `cbor:"1,keyasint"`
}

// Done ends a run on a host.
type Done struct {
	Undeclared []plan.Undeclared `cbor:"1,keyasint,omitempty"` // managed earlier, declared no more
	// Free says that the host is let go already: nothing changed, so there is
	// nothing that would have to arrive first, and no Bye is waited for.
	Free bool `cbor:"2,keyasint,omitempty"`
	// Pending are what is pending on the host now, whichever run left it so.
	Pending []plan.Pending `cbor:"3,keyasint,omitempty"`
	// Notice is what somebody should know of the host besides; mostly empty.
	Notice string `cbor:"4,keyasint,omitempty"`
}

// Bye says to the worker that everything arrived, and to the controller that the
// host's lock is free.
type Bye struct{}

// Ping keeps a quiet connection known to be alive.
type Ping struct{}

// Stop asks the worker to finish the task in hand and end.
type Stop struct{}

// Fault is why a worker cannot go on at all.
type Fault struct {
	Message string `cbor:"1,keyasint"`
	Do      string `cbor:"2,keyasint,omitempty"` // what to do about it
}

// secretTag marks a secret among attribute values. It is in the range that
// the IANA registry of CBOR tags leaves to first come, first served, and stays
// inside this protocol.
const secretTag = 4211701

var (
	encoder = must(cbor.EncOptions{Time: cbor.TimeUnixDynamic}.EncMode())
	decoder = must(cbor.DecOptions{
		DupMapKey:        cbor.DupMapKeyEnforcedAPF,
		IndefLength:      cbor.IndefLengthForbidden,
		IntDec:           cbor.IntDecConvertSignedOrFail,
		MaxNestedLevels:  24,
		MaxArrayElements: 1 << 16,
		MaxMapPairs:      1 << 13,
		DefaultMapType:   mapType,
	}.DecMode())
)

// Unmarshal reads what was kept of a message, as both sides read it: whole numbers are int64, and
// tables map[string]any.
func Unmarshal(data []byte, v any) error { return decoder.Unmarshal(data, v) }

func must[T any](v T, err error) T {
	if err != nil {
		panic(err) // options are constants: this is a mistake in this file
	}
	return v
}

// ErrFrame is wrapped by every error that says the other side broke a bound or
// sent what cannot be decoded.
var ErrFrame = errors.New("the other side sent an invalid message")

// Conn sends and receives messages. Send may be called from many goroutines,
// Receive from one at a time.
type Conn struct {
	r io.Reader
	w io.Writer

	mu sync.Mutex
}

// NewConn makes a connection over a reader and a writer.
func NewConn(r io.Reader, w io.Writer) *Conn { return &Conn{r: r, w: w} }

// Send writes one message in one Write.
func (c *Conn) Send(m Message) error {
	frame, err := Frame(m)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	_, err = c.w.Write(frame)
	return err
}

// Frame gives the bytes in which a message travels.
func Frame(m Message) ([]byte, error) {
	if m.Plan != nil {
		p := *m.Plan
		p.Tasks = mapTasks(p.Tasks, wrap)
		m.Plan = &p
	}
	body, err := encoder.Marshal(m)
	if err != nil {
		return nil, fmt.Errorf("encode a message: %w", err)
	}
	if len(body) > MaxFrame {
		return nil, fmt.Errorf("a message of %d bytes is larger than a frame may be (%d)", len(body), MaxFrame)
	}
	frame := binary.BigEndian.AppendUint32(make([]byte, 0, len(body)+4), uint32(len(body)))
	return append(frame, body...), nil
}

// Receive reads one message. At the end of the stream it gives io.EOF.
func (c *Conn) Receive() (Message, error) {
	var head [4]byte
	if _, err := io.ReadFull(c.r, head[:]); err != nil {
		return Message{}, err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n == 0 || n > MaxFrame {
		return Message{}, fmt.Errorf("%w: a frame of %d bytes", ErrFrame, n)
	}
	body := make([]byte, n)
	if _, err := io.ReadFull(c.r, body); err != nil {
		return Message{}, fmt.Errorf("a frame was cut off: %w", err)
	}
	return Decode(body)
}

// Decode reads the payload of one frame.
func Decode(body []byte) (Message, error) {
	var m Message
	if err := decoder.Unmarshal(body, &m); err != nil {
		return Message{}, fmt.Errorf("%w: %v", ErrFrame, err)
	}
	if m.Plan != nil {
		m.Plan.Tasks = mapTasks(m.Plan.Tasks, unwrap)
	}
	return m, nil
}

func mapTasks(tasks []plan.Task, f func(any) any) []plan.Task {
	out := make([]plan.Task, len(tasks))
	for i, t := range tasks {
		attrs := make(value.Attrs, len(t.Attrs))
		for k, v := range t.Attrs {
			attrs[k] = f(v)
		}
		t.Attrs = attrs
		if len(t.Masks) > 0 {
			t.Masks = each(t.Masks, f)
		}
		out[i] = t
	}
	return out
}

// wrap gives secrets the form in which they travel.
func wrap(v any) any {
	switch v := v.(type) {
	case value.Secret:
		return cbor.Tag{Number: secretTag, Content: v.Reveal()}
	case []any:
		return each(v, wrap)
	case map[string]any:
		return eachOf(v, wrap)
	}
	return v
}

func unwrap(v any) any {
	switch v := v.(type) {
	case cbor.Tag:
		if text, ok := v.Content.(string); ok && v.Number == secretTag {
			return value.NewSecret(text)
		}
		return nil
	case []any:
		return each(v, unwrap)
	case map[string]any:
		return eachOf(v, unwrap)
	}
	return v
}

func each(list []any, f func(any) any) []any {
	out := make([]any, len(list))
	for i, v := range list {
		out[i] = f(v)
	}
	return out
}

func eachOf(table map[string]any, f func(any) any) map[string]any {
	out := make(map[string]any, len(table))
	for k, v := range table {
		out[k] = f(v)
	}
	return out
}

// canonical writes maps in one order (RFC 8949, 4.2.1).
var canonical = sync.OnceValue(func() cbor.EncMode { return must(cbor.CoreDetEncOptions().EncMode()) })

// Canonical gives all that a task of a plan declares as bytes that are the same for the same
// declaration, secrets among them in the clear. Of its place in the plan only what it needs counts.
func Canonical(t plan.Task, all []plan.Task) ([]byte, error) {
	t = mapTasks([]plan.Task{t}, wrap)[0]
	refs := func(ids []int) []value.Ref {
		out := []value.Ref{}
		for _, id := range ids {
			if id >= 0 && id < len(all) {
				out = append(out, all[id].Ref)
			}
		}
		return out
	}
	needs, only := refs(t.Needs), refs(t.Only)
	t.ID, t.Needs, t.Only = 0, nil, nil
	return canonical().Marshal([]any{t, needs, only})
}

// Parts splits tasks so that each part fits into a frame with room to spare.
func Parts(tasks []plan.Task) ([]Plan, error) {
	var parts []Plan
	start, total := 0, 0
	for i, t := range tasks {
		n := weight(t)
		if n > MaxFrame/2 {
			return nil, fmt.Errorf("%s: its attributes take %d bytes, more than the limit of %d", t.Ref, n, MaxFrame/2)
		}
		if total+n > MaxFrame/2 {
			parts = append(parts, Plan{Tasks: tasks[start:i]})
			start, total = i, 0
		}
		total += n
	}
	return append(parts, Plan{Tasks: tasks[start:], Last: true}), nil
}

// weight is no less than what a task takes when it is encoded, in bytes.
func weight(t plan.Task) int {
	n := 256 + len(t.Ref.Kind) + len(t.Ref.Name) + 9*len(t.Needs)
	for _, o := range t.Triggers {
		n += 32 + len(o.Service.Kind) + len(o.Service.Name) + len(o.Action)
	}
	for k, v := range t.Attrs {
		n += 9 + len(k) + size(v)
	}
	return n + size(t.Masks) + 9*len(t.Only)
}

func size(v any) int {
	switch v := v.(type) {
	case string:
		return 9 + len(v)
	case value.Secret:
		return 18 + len(v.Reveal())
	case []any:
		n := 9
		for _, item := range v {
			n += size(item)
		}
		return n
	case map[string]any:
		n := 9
		for k, item := range v {
			n += 9 + len(k) + size(item)
		}
		return n
	}
	return 9
}

var mapType = reflect.TypeFor[map[string]any]()
