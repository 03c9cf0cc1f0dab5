package resolve

import (
	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/job"
	"jadekettle/internal/core/layers"
)

// JobSetting gives what the questions of jobs are asked over: the data that no host decides,
// the hosts that are not off, and the groups as far as no fact decides.
func JobSetting(p *compile.Project) (job.Setting, error) {
	out := job.Setting{Groups: map[string][]string{}, Env: p.Settings.Env}
	data, err := p.Data.For(layers.View{Vars: &expr.Vars{Host: map[string]any{}, Env: p.Settings.Env}})
	if err != nil {
		return out, err
	}
	if out.Data = data.Values; out.Data == nil {
		out.Data = map[string]any{}
	}
	out.Secrets = secretsIn(p, out.Data)
	for _, name := range p.Inventory.GroupNames() {
		out.Groups[name] = []string{}
	}
	for _, h := range p.Inventory.Hosts {
		if h.Disabled != "" {
			continue
		}
		out.Hosts = append(out.Hosts, h.Name)
		for _, g := range h.Groups {
			out.Groups[g.Name] = append(out.Groups[g.Name], h.Name)
		}
	}
	return out, nil
}
