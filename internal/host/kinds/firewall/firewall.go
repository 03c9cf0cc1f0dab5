// Package firewall is the kind of openings in a host's firewall: an nftables table
// of our own, see nft(8).
package firewall

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"jadekettle/internal/core/lazy"
	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

var about = &schema.Kind{
	Signs: true,
	Name:  "firewall",
	Area:  "system",
	About: "Inbound firewall rules (nftables).",
	Doc: "Choose any name. As soon as one is declared, all inbound traffic is dropped unless a declaration opens " +
		"it, except replies to outbound connections, pings, and the port of this connection. refuse takes " +
		"precedence over open. All declarations of a host form one nftables table, which is loaded completely or " +
		"not at all, and at boot before the network is up; other tables are left alone. Outbound and forwarded " +
		"traffic is not affected.",
	Attrs: []schema.Attr{
		{Name: "open", Type: schema.Text, List: true,
			Doc:      "Ports to open: PORT or FIRST-LAST, with /udp for UDP, or all.",
			Examples: []string{`["80", "443", "6000-6010/udp"]`, `["all"]`}},
		{Name: "refuse", Type: schema.Text, List: true, Doc: "Ports to refuse, even if another declaration opens " +
			"them; same form as open.",
			Examples: []string{`["25"]`}},
		{Name: "from", Type: schema.Text, List: true, Default: "anywhere", Doc: "Source addresses or networks it " +
			"applies to.",
			Examples: []string{`["192.0.2.0/24", "2001:db8::/32"]`}},
		{Name: "interface", Type: schema.Text, Default: "any", Doc: "The network interface it applies to.",
			Examples: []string{`"eth1"`}},
		{Name: "may_close_our_port", Type: schema.Bool, Default: "false",
			Doc:      "Also close the port of this connection, unless a declaration opens it.",
			Examples: []string{"true"}},
	},
	Examples: []schema.Example{
		{About: "A web server, and a data port for the local network only", TOML: `[firewall.web]
open = ["80", "443"]

[firewall.local]
open = ["5000-5010/udp"]
from = ["192.0.2.0/24", "2001:db8::/32"]
`},
		{About: "A network that is refused entirely", TOML: `[firewall.noisy-neighbor]
refuse = ["all"]
from = ["192.0.2.128/25"]
`},
	},
	Captures: []string{"open", "refuse", "from", "interface", "may_close_our_port"},
	Canon: func(name string) (string, error) {
		if !nameForm().MatchString(name) {
			return "", problem.Errorf("invalid firewall name %q", name).
				Remedy("use lower-case letters, digits, dashes and underscores")
		}
		return name, nil
	},
	Needs: func(schema.Needer) []value.Ref { return []value.Ref{{Kind: "package", Name: "nftables"}} },
	Check: check,
}

var (
	nameForm      = lazy.Regexp(`^[a-z0-9][a-z0-9_-]{0,60}$`)
	interfaceForm = lazy.Regexp(`^[A-Za-z0-9_.@:-]{1,15}$`)
)

func check(_ string, a value.Attrs) (string, error) {
	if a.Bool("absent") {
		return "", nil
	}
	if len(a.Texts("open"))+len(a.Texts("refuse")) == 0 {
		return "", problem.Errorf("open or refuse is required").Remedy("set at least one of them")
	}
	for _, name := range []string{"open", "refuse"} {
		for _, p := range a.Texts(name) {
			if _, err := parsePort(p); err != nil {
				return name, err
			}
		}
	}
	for _, s := range a.Texts("from") {
		if _, err := network(s); err != nil {
			return "from", err
		}
	}
	if i := a.Text("interface"); i != "" && !interfaceForm().MatchString(i) {
		return "interface", problem.Errorf("invalid network interface %q", i).
			Remedy("`ip link` on the host lists " +
				"them")
	}
	return "", nil
}

// ports are those that a word names; without any it is all.
type ports struct {
	protocol string
	span     string // PORT or FIRST-LAST, as nft takes it
}

func parsePort(s string) (ports, error) {
	if s == "all" {
		return ports{}, nil
	}
	wrong := problem.Errorf("invalid port %q", s).Remedy("use a form such as 443, 6000-6010, 53/udp or all")
	span, protocol, given := strings.Cut(s, "/")
	if !given {
		protocol = "tcp"
	}
	first, last, two := strings.Cut(span, "-")
	a, errA := strconv.ParseUint(first, 10, 16)
	b, errB := a, error(nil)
	if two {
		b, errB = strconv.ParseUint(last, 10, 16)
	}
	if protocol != "tcp" && protocol != "udp" || errA != nil || errB != nil || a == 0 || b < a {
		return ports{}, wrong
	}
	return ports{protocol, span}, nil
}

func network(s string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(s); err == nil {
		return a.Prefix(a.BitLen())
	}
	p, err := netip.ParsePrefix(s)
	if err != nil || p != p.Masked() {
		return p, problem.Errorf("invalid address or network %q", s).
			Remedy("use a form such as 192.0.2.7, 192.0.2.0/24 or 2001:db8::/32")
	}
	return p, nil
}

// What we write: the table, and what loads it at boot.
const (
	file     = "/etc/jadekettle-firewall.nft"
	unitFile = "/etc/systemd/system/jadekettle-firewall.service"
	unitLink = "/etc/systemd/system/sysinit.target.wants/jadekettle-firewall.service"
	unit     = `# Kept by Jade Kettle: edit the firewall in the project, changes made here are replaced.
[Unit]
Description=Firewall kept by Jade Kettle
DefaultDependencies=no
Wants=network-pre.target
Before=network-pre.target shutdown.target
After=local-fs.target
Conflicts=shutdown.target
[Service]
Type=oneshot
RemainAfterExit=yes
ExecStart=/usr/sbin/nft -f ` + file + `
[Install]
WantedBy=sysinit.target
`
)

// Kind is the kind of openings.
func Kind() kind.Kind { return kind.Each(openings{}) }

type openings struct{}

func (openings) Schema() *schema.Kind { return about }

type state struct {
	old    kind.Text
	want   string // what the file is to hold; empty when it goes
	loaded bool   // the kernel has what the file says
	atBoot bool
	unit   kind.Text
}

// remembered is what the kernel reported of the table just after it was loaded.
type remembered struct {
	File   string `json:"file"`
	Kernel string `json:"kernel"`
}

// Keeps gives the rules' file and the unit that loads it.
func (openings) Keeps(*kind.Env, plan.Task) []string { return []string{file, unitFile, unitLink} }

const memory = "firewall.json"

// Read compares the file, the kernel and what is loaded at boot.
func (openings) Read(ctx context.Context, env *kind.Env, t plan.Task) (state, error) {
	var st state
	var err error
	if st.old, err = env.ReadOptional(file); err != nil {
		return st, err
	}
	if !env.Machine.Look("nft") {
		if t.Absent && !st.old.There {
			return st, nil
		}
		return st, kind.NotYet(problem.Errorf("nft is not installed on this host").Remedy("declare [package.nftables]"))
	}
	if _, err := env.Machine.ReadDir("/run/systemd/system"); err != nil {
		return st, problem.Errorf("loading the firewall at boot requires systemd, which does not run this host").
			Remedy("declare the files of this host's own firewall instead")
	}
	st.want = table(t, env, sections(st.old.Text))
	now, err := kernel(ctx, env)
	if err != nil {
		return st, err
	}
	var last remembered
	if err := env.Store.Recall(memory, &last); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return st, err
	}
	st.loaded = now != "" && last == remembered{sum(st.old.Text), sum(now)}
	if st.unit, err = env.ReadOptional(unitFile); err != nil {
		return st, err
	}
	st.atBoot = st.unit.Text == unit && linked(env)
	if !first(env, t) { // who says for all of them what concerns the whole table
		st.loaded, st.atBoot = true, true
	}
	return st, nil
}

// first says whether a task is the first firewall of the plan.
func first(env *kind.Env, t plan.Task) bool {
	i := slices.IndexFunc(env.Tasks, func(o plan.Task) bool { return o.Ref.Kind == about.Name && !o.Absent })
	return i < 0 || env.Tasks[i].Ref == t.Ref
}

func sum(s string) string {
	h := sha256.Sum256([]byte(s))
	return hex.EncodeToString(h[:])
}

// kernel gives the table as the kernel has it, "" where it has none.
func kernel(ctx context.Context, env *kind.Env) (string, error) {
	c := machine.Command{Args: []string{"nft", "-s", "-n", "list", "table", "inet", "jadekettle"}, Limit: time.Minute}
	out, err := env.Machine.Run(ctx, c)
	if err != nil {
		return "", err
	}
	if said := out.Combined.String(); out.Code != 0 && !strings.Contains(said, "No such file") {
		return "", problem.Errorf("nft cannot list its tables: %s", strings.TrimSpace(said)).
			Remedy("check that the host's kernel supports nftables and that the worker runs as root")
	}
	return out.Stdout, nil
}

func linked(env *kind.Env) bool {
	d, name, err := env.Split(unitLink)
	if err != nil {
		return false
	}
	defer d.Close()
	to, err := d.Readlink(name)
	return err == nil && path.Base(to) == path.Base(unitFile)
}

var (
	startMark = lazy.Regexp(`^\s*# jadekettle ([a-z0-9_-]+): start$`)
	endMark   = lazy.Regexp(`^\s*# jadekettle ([a-z0-9_-]+): end$`)
)

// sections gives the rules that the file has for each declaration.
func sections(text string) map[string][]string {
	out := map[string][]string{}
	in := ""
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		switch m := startMark().FindStringSubmatch(line); {
		case m != nil:
			in = m[1]
			out[in] = nil
		case endMark().MatchString(line):
			in = ""
		case in != "":
			out[in] = append(out[in], strings.TrimSpace(line))
		}
	}
	return out
}

// table gives the whole file with what a task declares in it; "" when nothing
// is left to say.
func table(t plan.Task, env *kind.Env, have map[string][]string) string {
	delete(have, t.Ref.Name)
	if !t.Absent {
		have[t.Ref.Name] = append([]string{"# " + kind.Signature(t)}, rules(t.Attrs)...)
	}
	if len(have) == 0 {
		return ""
	}
	names := value.Keys(have)
	slices.SortStableFunc(names, func(a, b string) int { return weight(have[a]) - weight(have[b]) })
	var b strings.Builder
	b.WriteString("#!/usr/sbin/nft -f\n# Kept by Jade Kettle: edit each part in the manifest that it names, " +
		"changes made here are replaced.\ntable inet jadekettle\n" +
		"delete table inet jadekettle\ntable inet jadekettle {\n\tchain incoming {\n" +
		"\t\ttype filter hook input priority filter; policy drop;\n\t\tct state established,related accept\n" +
		"\t\tct state invalid drop\n\t\tiif \"lo\" accept\n")
	if port := ourPort(env, have); port > 0 {
		fmt.Fprintf(&b, "\t\ttcp dport %d accept %s\n", port, ourMark)
	}
	b.WriteString("\t\tmeta l4proto 58 accept comment \"ICMPv6\"\n\t\ticmp type { echo-request, " +
		"destination-unreachable, time-exceeded, " +
		"parameter-problem } accept\n")
	for _, name := range names {
		fmt.Fprintf(&b, "\t\t# jadekettle %s: start\n", name)
		for _, r := range have[name] {
			b.WriteString("\t\t" + r + "\n")
		}
		fmt.Fprintf(&b, "\t\t# jadekettle %s: end\n", name)
	}
	b.WriteString("\t}\n}\n")
	return b.String()
}

// ourMark is behind the port that stays open for us.
const ourMark = `comment "the port of the jadekettle connection"`

// weight puts what refuses first.
func weight(rules []string) int {
	if slices.ContainsFunc(rules, func(r string) bool { return strings.HasSuffix(r, " drop") || r == "drop" }) {
		return 0
	}
	return 1
}

// rules writes one declaration as nft takes it.
func rules(a value.Attrs) []string {
	var out []string
	for _, part := range []struct{ attr, verdict string }{{"refuse", "drop"}, {"open", "accept"}} {
		for _, match := range spans(a.Texts(part.attr)) {
			for _, source := range sources(a.Texts("from")) {
				words := []string{source, match, part.verdict}
				if i := a.Text("interface"); i != "" {
					words = append([]string{fmt.Sprintf("iifname %q", i)}, words...)
				}
				out = append(out, strings.Join(slices.DeleteFunc(words, func(w string) bool { return w == "" }), " "))
			}
		}
	}
	return out
}

// spans joins ports by their protocol.
func spans(words []string) []string {
	by := map[string][]string{}
	for _, w := range words {
		p, err := parsePort(w)
		if err != nil {
			continue // which was refused with the manifest
		}
		by[p.protocol] = append(by[p.protocol], p.span)
	}
	var out []string
	for _, protocol := range value.Keys(by) {
		if protocol == "" {
			return []string{""} // all takes in whatever else is named
		}
		out = append(out, protocol+" dport { "+strings.Join(by[protocol], ", ")+" }")
	}
	return out
}

// sources joins networks by their family.
func sources(list []string) []string {
	if len(list) == 0 {
		return []string{""}
	}
	var four, six []string
	for _, s := range list {
		p, err := network(s)
		switch {
		case err != nil: // which was refused with the manifest
		case p.Addr().Is4():
			four = append(four, p.String())
		default:
			six = append(six, p.String())
		}
	}
	var out []string
	if len(four) > 0 {
		out = append(out, "ip saddr { "+strings.Join(four, ", ")+" }")
	}
	if len(six) > 0 {
		out = append(out, "ip6 saddr { "+strings.Join(six, ", ")+" }")
	}
	return out
}

// sshPort is kept open if nothing says which port we came by.
const sshPort = 22

// ourPort is the port by which this session came: sshd gives it to what it
// starts in SSH_CONNECTION (ssh(1), ENVIRONMENT), and some process above the
// worker still has it. It is 0 where a declaration that is in force says that it may be
// closed: until that one is, which most often opens it for some, it stays open.
func ourPort(env *kind.Env, have map[string][]string) int {
	if slices.ContainsFunc(env.Tasks, func(t plan.Task) bool {
		return t.Ref.Kind == about.Name && t.Attrs.Bool("may_close_our_port") && have[t.Ref.Name] != nil
	}) {
		return 0
	}
	at := "self"
	for range 16 {
		environment, _ := machine.ReadFile(env.Machine, "/proc/"+at+"/environ")
		for v := range strings.SplitSeq(string(environment), "\x00") {
			if rest, ok := strings.CutPrefix(v, "SSH_CONNECTION="); ok {
				if f := strings.Fields(rest); len(f) == 4 {
					if n, err := strconv.ParseUint(f[3], 10, 16); err == nil && n > 0 {
						return int(n)
					}
				}
			}
		}
		status, _ := machine.ReadFile(env.Machine, "/proc/"+at+"/status")
		_, rest, found := strings.Cut(string(status), "\nPPid:")
		line, _, _ := strings.Cut(rest, "\n")
		if at = strings.TrimSpace(line); !found || at == "0" {
			break
		}
	}
	return sshPort
}

// Names lists the declarations that the file has rules of.
func (openings) Names(_ context.Context, env *kind.Env) ([]string, error) {
	st, err := env.ReadOptional(file)
	return value.Keys(sections(st.Text)), err
}

// Capture declares what the file says under a name. What other tables hold is
// left to who made them.
func (openings) Capture(_ context.Context, _ *kind.Env, t plan.Task, st state) (plan.Captured, error) {
	have, there := sections(st.old.Text)[t.Ref.Name]
	if !there {
		return plan.Captured{Attrs: map[string]any{"absent": true}}, nil
	}
	have = slices.DeleteFunc(have, func(line string) bool { return strings.HasPrefix(line, "#") })
	attrs := parsed(have)
	if !slices.Equal(rules(attrs), have) {
		return plan.Captured{}, problem.Errorf("its rules were not written by Jade Kettle").Remedy("declare it by hand")
	}
	if !strings.Contains(st.old.Text, ourMark) {
		attrs["may_close_our_port"] = true
	}
	return plan.Captured{Attrs: attrs, Files: []string{file, unitFile}}, nil
}

// ruleForm is a rule as [rules] writes it; made when it is wanted, since every
// worker's start would pay for it.
var ruleForm = lazy.Regexp(`^(?:iifname "([^"]+)" )?(?:ip6? saddr \{ ([^}]+) \} )?` +
	`(?:(tcp|udp) dport \{ ([^}]+) \} )?(accept|drop)$`)

// parsed reads rules back, each of which is one protocol for one family.
func parsed(have []string) value.Attrs {
	attrs := value.Attrs{}
	add := func(name, v string) {
		list, _ := attrs[name].([]any)
		if !slices.Contains(list, any(v)) {
			attrs[name] = append(list, v)
		}
	}
	for _, r := range have {
		m := ruleForm().FindStringSubmatch(r)
		if m == nil {
			continue
		}
		if m[1] != "" {
			attrs["interface"] = m[1]
		}
		for _, from := range strings.Split(m[2], ", ") {
			if p, err := netip.ParsePrefix(from); err == nil && p.IsSingleIP() {
				from = p.Addr().String() // as people write it
			}
			if from != "" {
				add("from", from)
			}
		}
		name := map[string]string{"accept": "open", "drop": "refuse"}[m[5]]
		if m[3] == "" {
			add(name, "all")
			continue
		}
		for _, span := range strings.Split(m[4], ", ") {
			if m[3] == "udp" {
				span += "/udp"
			}
			add(name, span)
		}
	}
	return attrs
}

// Compare says what differs.
func (openings) Compare(t plan.Task, st state) []plan.Change {
	if st.want == "" {
		if st.old.There {
			return []plan.Change{{What: "firewall", Was: "on", Becomes: "off: nothing is declared"}}
		}
		return nil
	}
	out := st.old.Change(st.want)
	if len(out) == 0 && !st.loaded {
		out = append(out, plan.Change{What: "loaded", Was: "no, or the kernel's rules were changed", Becomes: "yes"})
	}
	if !st.atBoot {
		out = append(out, plan.Change{What: "boot", Was: "not loaded", Becomes: "loaded"})
	}
	return out
}

// Write checks the table, puts the files in place and loads it.
func (openings) Write(ctx context.Context, env *kind.Env, w kind.Differing[state]) error {
	st, err := openings{}.Read(ctx, env, w.Task) // since a neighbour may have been written
	if err != nil {
		return err
	}
	if st.want == "" {
		return off(ctx, env, w.Task, st)
	}
	if st.old.Text != st.want {
		if err := env.WriteText(ctx, w.Task, st.old, st.want, 0o644, "nft -c -f ${candidate}"); err != nil {
			return err
		}
	}
	c := machine.Command{Args: []string{"nft", "-f", file}, Limit: time.Minute}
	if _, err := machine.Do(ctx, env.Machine, c, nil); err != nil {
		return err
	}
	now, err := kernel(ctx, env)
	if err != nil {
		return err
	}
	if err := env.Store.Remember(memory, remembered{sum(st.want), sum(now)}); err != nil {
		return err
	}
	st.atBoot = st.unit.Text == unit && linked(env)
	return boot(ctx, env, w.Task, st)
}

// boot has systemd load the table at boot.
func boot(ctx context.Context, env *kind.Env, t plan.Task, st state) error {
	if st.atBoot {
		return nil
	}
	if err := env.PutText(ctx, t, st.unit, unit); err != nil {
		return err
	}
	up, wants, err := env.Split(path.Dir(unitLink))
	if err != nil {
		return err
	}
	defer up.Close()
	if _, err := up.Lstat(wants); errors.Is(err, fs.ErrNotExist) {
		if err := up.Mkdir(wants, 0o755, -1, -1); err != nil {
			return err
		}
	}
	d, name, err := env.Split(unitLink)
	if err != nil {
		return err
	}
	defer d.Close()
	return env.Symlink(t, d, path.Dir(unitLink), name, unitFile)
}

// off takes the table and the files away.
func off(ctx context.Context, env *kind.Env, t plan.Task, st state) error {
	c := machine.Command{Args: []string{"nft", "delete", "table", "inet", "jadekettle"}, Limit: time.Minute}
	now, err := kernel(ctx, env)
	if err == nil && now != "" {
		_, err = machine.Do(ctx, env.Machine, c, nil)
	}
	if err != nil {
		return err
	}
	if d, name, err := env.Split(unitLink); err == nil {
		d.Remove(name)
		d.Close()
	}
	env.Store.Unlearn(memory)
	return errors.Join(env.PutText(ctx, t, st.unit, ""), env.PutText(ctx, t, st.old, ""))
}
