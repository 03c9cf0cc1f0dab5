package reach

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"jadekettle/internal/core/problem"
)

// settings fills in, from the user's own OpenSSH settings, what the inventory
// does not say: address, port, user and key. OpenSSH itself reads them, by
// `ssh -G`, so that every pattern and condition means what it means there.
// Without a settings file, or without OpenSSH, nothing changes.
func (d *Dialer) settings(ctx context.Context, t Target) (Target, error) {
	file := filepath.Join(d.Home, ".ssh", "config")
	if _, err := os.Stat(file); d.Home == "" || err != nil {
		return t, nil
	}
	ssh, err := exec.LookPath("ssh")
	if err != nil {
		return t, nil
	}
	args := []string{"-G", "-F", file}
	if t.User != "" {
		args = append(args, "-l", t.User)
	}
	out, err := exec.CommandContext(ctx, ssh, append(args, "--", t.Address)...).Output()
	if err != nil {
		return t, problem.Errorf("OpenSSH cannot read %s", file).Remedy("`ssh -G %s` shows why", t.Address)
	}
	return t.with(string(out), d.Home)
}

// with takes what ssh -G printed: one setting a line, the name in lower case.
func (t Target) with(printed, home string) (Target, error) {
	var keys []string
	for line := range strings.Lines(printed) {
		name, v, _ := strings.Cut(strings.TrimSpace(line), " ")
		switch name {
		case "hostname":
			t.Address = v
		case "port":
			if port, err := strconv.Atoi(v); err == nil && t.Port == 0 {
				t.Port = port
			}
		case "user":
			if t.User == "" {
				t.User = v
			}
		case "identityfile":
			keys = append(keys, v)
		case "certificatefile":
			t.certificate = v
			if rest, ok := strings.CutPrefix(v, "~/"); ok {
				t.certificate = filepath.Join(home, rest)
			}
		case "proxyjump":
			if v != "none" && t.Jump == "" {
				t.Jump = v
			}
		case "proxycommand":
			if v != "none" && t.Jump == "" {
				t.proxy = v
			}
		}
	}
	if t.Key == "" && len(keys) == 1 { // several are the usual ones, which are tried anyway
		t.Key = keys[0]
		if rest, ok := strings.CutPrefix(t.Key, "~/"); ok {
			t.Key = filepath.Join(home, rest)
		}
	}
	return t, nil
}
