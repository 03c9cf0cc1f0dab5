package app

import (
	"context"
	"os"

	"jadekettle/internal/fleet/rehearse"
	"jadekettle/internal/host/kinds"
)

// Rehearse tries the project on simulated hosts, as all of its rehearsals say, or some files of them, and counts the
// cases that are not as expected.
func (s *Site) Rehearse(ctx context.Context, files []string) (cases []rehearse.Case, failed int, err error) {
	names := make([]string, len(files))
	for i, name := range files {
		if names[i], err = s.InProject(name, "rehearsals"); err != nil {
			return nil, 0, err
		}
	}
	list, err := rehearse.Load(s.Files, names)
	if err != nil {
		return nil, 0, err
	}
	o, err := s.Options()
	if err != nil {
		return nil, 0, err
	}
	work, err := os.MkdirTemp("", "jadekettle-rehearsal-*")
	if err != nil {
		return nil, 0, err
	}
	defer os.RemoveAll(work)
	cases, err = rehearse.Run(ctx, rehearse.Stage{Project: s.Files, Kinds: kinds.Schemas(), Options: o, Folder: work,
		Parallel: 8}, list)
	for _, c := range cases {
		if c.Failure != "" {
			failed++
		}
	}
	return cases, failed, err
}
