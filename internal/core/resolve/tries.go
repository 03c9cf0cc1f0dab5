package resolve

import (
	"jadekettle/internal/core/measure"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
)

// elsewhere are common attributes that a plan holds in fields of their own.
var elsewhere = []string{"absent", schema.Labels, schema.Timeout, schema.Retries, schema.RetryEvery, schema.OnRemoval}

// onRemoval is what becomes of a thing when nothing declares it any more: what its
// declaration says, else the innermost use, else the group by which it comes. What comes
// by several ways is removed only if all say so.
func onRemoval(it *Item) string {
	for _, c := range it.Contexts {
		if it.Task.Attrs.Has(schema.OnRemoval) {
			break
		}
		says := c.Group.OnRemoval
		for _, u := range c.Uses {
			if u.OnRemoval != "" {
				says = u.OnRemoval
			}
		}
		if says != schema.Remove {
			return ""
		}
		if c == it.Contexts[len(it.Contexts)-1] {
			return schema.Remove
		}
	}
	if it.Task.Attrs.Text(schema.OnRemoval) == schema.Remove {
		return schema.Remove
	}
	return ""
}

// tries is how long and how often a task is tried: as declared, else as the settings
// say. What a kind means by a timeout of its own it sees to itself.
func (r *resolver) tries(it *Item) plan.Tries {
	s, a := &r.Project.Settings, it.Task.Attrs
	out := plan.Tries{Limit: s.Timeout, More: s.Retries, Every: s.RetryEvery}
	switch limit := a.Text(schema.Timeout); {
	case (limit != "" || out.Limit > 0) && it.Kind.Owns(schema.Timeout):
		out.Limit = 0
	case limit != "":
		out.Limit, _ = measure.ParseDuration(limit) // checked with the manifest
	}
	if n, ok := a.Int(schema.Retries); ok {
		out.More = int(n)
	}
	if every := a.Text(schema.RetryEvery); every != "" {
		out.Every, _ = measure.ParseDuration(every)
	}
	if out.More == 0 {
		out.Every = 0
	}
	return out
}

// checkTries says what is wrong with how often something is to be tried again.
func checkTries(it *Item) error {
	if n, ok := it.Task.Attrs.Int(schema.Retries); ok && (n < 0 || n > schema.MaxRetries) {
		return problem.Errorf("invalid retries: %d", n).Remedy("use a number from 0 to %d", schema.MaxRetries)
	}
	return nil
}
