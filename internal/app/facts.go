package app

import (
	"context"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/record"
)

// ReadFacts reads the facts of hosts and keeps them.
func (p *Project) ReadFacts(ctx context.Context, with Passwords, targets []string) ([]*record.Host, error) {
	hosts, err := p.Select(targets, nil)
	if err != nil {
		return nil, err
	}
	d, err := p.Dialer(with)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	fleet := p.Fleet(d, 0)
	fleet.Chosen = func(h *inventory.Host, groups []*inventory.Group) bool {
		return p.Inventory.Chosen(targets, nil, h, groups)
	}
	out := fleet.Facts(ctx, hosts)
	p.Unkept("the collected facts", p.Known.Keep(p.news(ctx, out, nil)))
	return out, nil
}

// Condition is one over host, facts and env, to be asked of hosts.
type Condition struct {
	project *Project
	program *expr.Program
}

// Condition reads one.
func (p *Project) Condition(text string) (*Condition, error) {
	program, err := inventory.Condition(text)
	return &Condition{p, program}, err
}

// Holds says whether it is true of a host whose facts were read.
func (c *Condition) Holds(h *record.Host) (bool, error) {
	host, _ := c.project.Inventory.Host(h.Name)
	yes, _, err := c.program.Bool(&expr.Vars{Host: host.Vars, Env: c.project.Inventory.Env, Facts: h.Facts.Tree()})
	return yes, err
}

// CountTasks counts what is declared for the hosts of a request, by what is known of them. left are the
// hosts of which too little is.
func (p *Project) CountTasks(q Request) (n, left int, err error) {
	if err := q.Part.Check(p.Project); err != nil {
		return 0, 0, err
	}
	hosts, err := p.hosts(&q)
	if err != nil {
		return 0, 0, err
	}
	plans := p.Fleet(nil, 1).Plans
	if err := plans.Check(hosts); err != nil {
		return 0, 0, err
	}
	known := p.Known.Of(len(hosts))
	for _, h := range hosts {
		if h.Disabled != "" {
			continue
		}
		s, _ := known(h.Name)
		f := s.Facts
		if f == nil {
			if _, early := plans.Early(h); !early {
				left++
				continue
			}
		}
		whole, err := plans.Of(h, f)
		if err != nil {
			return 0, 0, err
		}
		part, _ := q.Part.Apply(whole)
		n += len(part.Tasks)
	}
	return n, left, nil
}
