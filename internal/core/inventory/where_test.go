package inventory

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"jadekettle/internal/core/problem"
)

const coast = `[host.gauge-01]
site = "pier"
[host.gauge-02]
site = "creek"
params.gauge.rate = 1
[host."chart-[1..2]"]
site = "house"
params.chart.page = "${n}"
[host.chart-2.params.chart]
page = 9
[group.all]
members = ["*"]
[group.shore]
inside = "all"
where = 'host.site in ["pier", "creek"]'
connect = { user = "shore" }
[group.bench]
where = 'env == "test"'
[group.large]
inside = "shore"
members = ["gauge-02"]
where = 'facts.memory.total > 1000'
[group.locker]
inside = "large"
where = '"debian" in facts.os.like'
[group.named]
members = ["gauge-0[1..1]", "chart-1"]
`

func loadCoast(t *testing.T, text, env string) *Inventory {
	t.Helper()
	var ps problem.Problems
	inv, _ := Load(fstest.MapFS{"hosts.toml": {Data: []byte(text)}}, []string{"hosts.toml"}, env, &ps)
	if err := ps.Err(); err != nil {
		t.Fatal(err)
	}
	return inv
}

func namesOf(groups []*Group) string {
	var out []string
	for _, g := range groups {
		out = append(out, g.Name)
	}
	return strings.Join(out, " ")
}

func tree(memory int64, like ...any) map[string]any {
	return map[string]any{"memory": map[string]any{"total": memory}, "os": map[string]any{"like": like}}
}

func TestGroupsByCondition(t *testing.T) {
	inv := loadCoast(t, coast, "")
	for _, c := range []struct {
		host, sure, maybe, small, debian string
	}{
		{"gauge-01", "all named shore", "large locker", "all named shore", "all named shore large locker"},
		{"gauge-02", "all shore large", "locker", "all shore large", "all shore large locker"},
		{"chart-1", "all named", "shore large locker", "all named", "all named shore large locker"},
		{"chart-2", "all", "shore large locker", "all", "all shore large locker"},
	} {
		h, _ := inv.Host(c.host)
		if got := namesOf(h.Groups); got != c.sure {
			t.Errorf("%s is in %s, want %s", c.host, got, c.sure)
		}
		if got := namesOf(h.Maybe); got != c.maybe {
			t.Errorf("%s may be in %s, want %s", c.host, got, c.maybe)
		}
		for facts, want := range map[string]string{"small": c.small, "debian": c.debian} {
			f := tree(10)
			if facts == "debian" {
				f = tree(10, "debian")
			}
			got, err := inv.GroupsOf(h, f)
			if namesOf(got) != want || err != nil {
				t.Errorf("%s, %s, is in %s (%v), want %s", c.host, facts, namesOf(got), err, want)
			}
			if own := fmt.Sprint(h.WithGroups(got)["groups"]); own != "["+want+"]" {
				t.Errorf("host.groups of %s is %s, want %s", c.host, own, want)
			}
		}
	}
	h, _ := inv.Host("gauge-01")
	if h.Connect.User != "shore" {
		t.Error("a group by own keys gives no connection")
	}
	if inv := loadCoast(t, coast, "test"); !strings.Contains(namesOf(inv.Hosts[0].Groups), "bench") {
		t.Error("a group by environment has no member")
	}
}

func TestWhyAMember(t *testing.T) {
	inv := loadCoast(t, coast, "")
	for _, c := range []struct{ host, group, facts, want string }{
		{"gauge-01", "all", "", "by the pattern *"},
		{"gauge-01", "named", "", "by the pattern gauge-0[1..1]"},
		{"chart-1", "named", "", "by its name"},
		{"gauge-01", "shore", "", `by the condition host.site in ["pier", "creek"]`},
		{"chart-1", "shore", "", ""},
		{"chart-1", "shore", "large", "through the group large"},
		{"chart-1", "all", "large", "by the pattern *"},
		{"chart-1", "locker", "large", ""},
	} {
		h, _ := inv.Host(c.host)
		g, _ := inv.Group(c.group)
		var f map[string]any
		if c.facts != "" {
			f = tree(5000)
		}
		if got := inv.Why(h, g, f); got != c.want {
			t.Errorf("%s is in %s %q, want %q", c.host, c.group, got, c.want)
		}
	}
}

func TestTargetsByCondition(t *testing.T) {
	inv := loadCoast(t, coast, "")
	for _, c := range []struct {
		targets, except string
		contacted       string
		chosen          string // of those, once all have large memories
	}{
		{"@locker", "", "gauge-01 gauge-02 chart-1 chart-2", ""},
		{"@large", "", "gauge-01 gauge-02 chart-1 chart-2", "gauge-01 gauge-02 chart-1 chart-2"},
		{"@large", "chart-*", "gauge-01 gauge-02", "gauge-01 gauge-02"},
		{"gauge-*", "@large", "gauge-01", ""},
		{"gauge-01 @named", "@locker", "gauge-01 chart-1", "gauge-01 chart-1"},
		{"", "@shore", "chart-1 chart-2", ""},
	} {
		targets, except := strings.Fields(c.targets), strings.Fields(c.except)
		hosts, err := inv.Select(targets, except)
		if err != nil {
			t.Fatal(err)
		}
		var contacted, chosen []string
		for _, h := range hosts {
			contacted = append(contacted, h.Name)
			groups, _ := inv.GroupsOf(h, tree(5000))
			if inv.Chosen(targets, except, h, groups) {
				chosen = append(chosen, h.Name)
			}
		}
		if strings.Join(contacted, " ") != c.contacted || strings.Join(chosen, " ") != c.chosen {
			t.Errorf("%q without %q contacts %v and means %v; want %s and %s", c.targets, c.except, contacted, chosen,
				c.contacted, c.chosen)
		}
	}
}

func TestParamsOfHosts(t *testing.T) {
	inv := loadCoast(t, coast, "")
	for host, want := range map[string]string{"gauge-01": "", "gauge-02": "gauge.rate=1/0/false",
		"chart-1": "chart.page=${n}/1/true", "chart-2": "chart.page=9/0/false"} {
		h, _ := inv.Host(host)
		var got []string
		for _, g := range h.Params {
			got = append(got, fmt.Sprintf("%s.%s=%v/%d/%v", g.Manifest, g.Param, g.Node.Value, g.N, g.Ranged))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s has the params %v, want %s", host, got, want)
		}
	}
}
