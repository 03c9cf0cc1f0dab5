package store

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"os"
	"time"

	"jadekettle/internal/core/record"
)

// reads gives the head of a run out of a row, see headColumns.
func reads(scan func(...any) error, more ...any) (h record.Head, id int64, err error) {
	var command, params, answers, part string
	var started, beat, now int64
	var ended sql.NullInt64
	var pid int
	var elsewhere bool
	err = scan(append([]any{&id, &h.Run, &h.Env, &h.Number, &h.Mode, &h.Who, &h.Machine, &command, &params, &h.Job,
		&answers, &h.Source, &h.Revision, &h.Edited,
		&h.Whole, &h.Declared, &h.Undoes, &started, &ended, &h.Code, &beat, &pid, &elsewhere, &part,
		&now}, more...)...)
	if err != nil {
		return h, 0, err
	}
	if err = cmp.Or(json.Unmarshal([]byte(command), &h.Command), json.Unmarshal([]byte(params), &h.Params),
		json.Unmarshal([]byte(answers), &h.Inputs), json.Unmarshal([]byte(part), &h.Part)); err != nil {
		return h, 0, err
	}
	h.Started = atMillis(started)
	until := beat
	switch {
	case elsewhere:
		h.State = record.Elsewhere
	case ended.Valid:
		h.State, until = record.Ended, ended.Int64
	case alive(h.Machine, pid, time.Duration(now-beat)*time.Millisecond):
		h.State, until = record.Running, time.Now().UnixMilli()
	default:
		h.State = record.Interrupted
	}
	h.Seconds = float64(max(0, until-started)) / 1000
	if h.Command == nil {
		h.Command = []string{}
	}
	if h.Params == nil {
		h.Params = map[string]string{}
	}
	if h.Inputs == nil {
		h.Inputs = map[string]string{}
	}
	h.Notes = map[string]string{}
	for _, list := range []*[]string{&h.Part.Tasks, &h.Part.Labels, &h.Part.Manifests, &h.Part.Skip} {
		if *list == nil {
			*list = []string{}
		}
	}
	return h, id, nil
}

const headColumns = `run.id, run.uuid, run.env, run.number, run.mode, run.who, run.machine, run.command,
	run.params, run.job, run.answers, run.source, run.revision,
	run.edited, run.whole, run.declared, run.undoes, run.started, run.ended, run.code, run.beat, run.pid,
	run.elsewhere, run.part, now_ms()`

// quiet is how long a run that is alive may not say so: the file may be locked for a while.
const quiet = 30 * time.Second

// alive says whether a run without an end is still at work: it says so every few seconds,
// and on this machine its process is there. since is how long ago it said so last.
func alive(machine string, pid int, since time.Duration) bool {
	if since > quiet {
		return false
	}
	if here, err := os.Hostname(); err != nil || here != machine {
		return true
	}
	p, err := os.FindProcess(pid)
	if err != nil {
		return false
	}
	return lives(p)
}
