package resolve

import (
	"strings"

	"jadekettle/internal/core/compile"
	"jadekettle/internal/core/inventory"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/value"
)

// ElevatePassword gives what sudo on a host is given when it asks, out of encrypted
// data; ok is false where the inventory names none. It is wanted before anything
// is known of the host, so facts have no say in it: a host that reported
// what it likes would choose whose password it gets. The error names the place in
// the inventory.
func ElevatePassword(p *compile.Project, h *inventory.Host) (secret value.Secret, ok bool, err error) {
	at := h.Connect.ElevatePassword
	if at == nil {
		return secret, false, nil
	}
	var ps problem.Problems
	wrong := func(err error) (value.Secret, bool, error) {
		ps.AddErr(h.Connect.Place, err)
		return value.Secret{}, false, ps.Err()
	}
	r := begin(p, h, Known{})
	if err := r.problems.Err(); err != nil {
		return secret, false, err
	}
	name := "data." + strings.Join(at, ".")
	var found any = r.Vars.Data
	for _, step := range at {
		m, _ := found.(map[string]any)
		found = m[step]
	}
	switch v := found.(type) {
	case value.Secret:
		if text := v.Reveal(); text == "" || strings.ContainsAny(text, "\r\n\x00") {
			return wrong(problem.Errorf("%s is not a password: it is empty, or has several lines", name).
				Remedy("store it on one line with `jadekettle secret set`"))
		}
		return v, true, nil
	case nil:
		if r.Vars.Blind {
			return secret, false, nil
		}
		return wrong(problem.Errorf("connect.elevate_password refers to %s, which is not in the data of %s",
			name, h.Name).
			Remedy("encrypt it with `jadekettle secret set`, in a layer that does not depend on facts"))
	}
	return wrong(problem.Errorf("connect.elevate_password refers to %s, which is not encrypted", name).
		Remedy("remove it from the plain data and encrypt it with `jadekettle secret set`"))
}
