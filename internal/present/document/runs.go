package document

import (
	"jadekettle/internal/core/record"
	"jadekettle/internal/core/value"
	"jadekettle/internal/history"
	"jadekettle/internal/history/store"
)

// Runs is what `runs` prints.
type Runs struct {
	Head
	Runs []record.Summary `json:"runs" doc:"The runs, newest first."`
}

// RunShown is what `runs show RUN` prints, and with a host.
type RunShown struct {
	Head
	record.Run
}

// TaskShown is what `runs show RUN HOST KIND NAME` prints.
type TaskShown struct {
	Head
	Number   int         `json:"number" doc:"The run's number."`
	Run      string      `json:"run" doc:"The run, a UUIDv7."`
	Host     string      `json:"host" doc:"The host."`
	Task     record.Task `json:"task" doc:"The task's result."`
	Manifest string      `json:"manifest" doc:"The manifest at the time; empty if it is not kept."`
}

// RunFacts is what `runs show RUN HOST --facts` prints.
type RunFacts struct {
	Head
	Number int            `json:"number" doc:"The run's number."`
	Host   string         `json:"host" doc:"The host."`
	Facts  map[string]any `json:"facts" doc:"Its facts as collected by the run."`
}

// RunsFound is what `runs search` prints.
type RunsFound struct {
	Head
	All  int           `json:"all" doc:"The total number of matches."`
	Hits []history.Hit `json:"hits" doc:"The newest matches."`
}

// RunsDiff is what `runs diff` prints.
type RunsDiff struct {
	Head
	history.Differences
}

// Life is what `runs of` prints.
type Life struct {
	Head
	Host    string           `json:"host" doc:"The host."`
	Kind    string           `json:"kind" doc:"The kind of the resource."`
	Name    string           `json:"name" doc:"Its name."`
	Moments []history.Moment `json:"moments" doc:"Its results, newest first."`
}

// Slow is what `runs timing` prints.
type Slow struct {
	Head
	history.Slow
}

// Checked is what `runs check` prints.
type Checked struct {
	Head
	File string `json:"file" doc:"The file that was checked, or the database."`
	*store.Health
}

// Status is what `status` prints.
type Status struct {
	Head
	Hosts []history.HostStatus `json:"hosts" doc:"The hosts, with those that need attention first."`
}

// NewRunsFound makes the document of where words were found.
func NewRunsFound(hits []history.Hit, all int) RunsFound {
	return RunsFound{Head: One, All: all, Hits: hits}
}

// NewLife makes the document of what became of one thing on a host.
func NewLife(host string, ref value.Ref, list []history.Moment) Life {
	return Life{Head: One, Host: host, Kind: ref.Kind, Name: ref.Name, Moments: list}
}
