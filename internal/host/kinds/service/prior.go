package service

import (
	"context"
	"time"

	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/service/backend"
)

// Prior is how a service is, to be put back.
type Prior struct {
	Name    string `json:"name"`
	Running bool   `json:"running"`
	Boot    bool   `json:"at_boot"`
	Barred  bool   `json:"barred"`
}

// PriorOf gives the states of services, those of them that the host has.
func PriorOf(ctx context.Context, env *kind.Env, names []string) ([]Prior, error) {
	sm, err := managerOf(env.Machine)
	if err != nil || len(names) == 0 {
		return nil, nil // a host without a service manager has nothing to put back
	}
	all, err := sm.Show(ctx, env.Machine, names)
	if err != nil {
		return nil, err
	}
	var out []Prior
	for _, name := range names {
		if s := all[name]; s.There {
			out = append(out, Prior{name, s.Running, s.Boot, s.Barred})
		}
	}
	return out, nil
}

// Started gives the uptime at which services were last started, those of them that run.
func Started(ctx context.Context, env *kind.Env, names []string) (map[string]time.Duration, error) {
	sm, err := managerOf(env.Machine)
	if err != nil || len(names) == 0 {
		return nil, nil // nothing is known of services where nobody minds them
	}
	all, err := sm.Show(ctx, env.Machine, names)
	if err != nil {
		return nil, err
	}
	out := map[string]time.Duration{}
	for name, s := range all {
		if s.Running {
			out[name] = s.Since
		}
	}
	return out, nil
}

// putBackLimit is how long a service may take to be put back.
const putBackLimit = time.Minute

// PutBack puts a service back into the state that it had. One that ran is started again, so that it reads
// what was put back for it, unless it is early: while the host starts, before its services
// do, and they would wait for us.
func PutBack(ctx context.Context, env *kind.Env, s Prior, early bool) error {
	sm, err := managerOf(env.Machine)
	if err != nil {
		return err
	}
	if err := sm.Load(ctx, env); err != nil {
		return err
	}
	now, err := sm.Show(ctx, env.Machine, []string{s.Name})
	if err != nil {
		return err
	}
	is := now[s.Name]
	do := func(a backend.Action) error { return sm.Act(ctx, env, a, s.Name, putBackLimit) }
	if is.Barred && !s.Barred {
		err = do(backend.Unmask)
	}
	if err == nil && is.Boot != s.Boot && is.BootWord == "" {
		toggle := backend.Disable
		if s.Boot {
			toggle = backend.Enable
		}
		err = do(toggle)
	}
	switch {
	case err != nil || early:
		return err
	case s.Running:
		return do(backend.Restart)
	case is.Running:
		return do(backend.Stop)
	}
	return nil
}
