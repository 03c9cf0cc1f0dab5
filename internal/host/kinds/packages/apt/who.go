package apt

import (
	"slices"
	"strings"
	"time"

	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// historyFile is where apt notes what it did and for whom; see apt.conf(5), Dir::Log::History.
const historyFile = "/var/log/apt/history.log"

// Who looks in apt's own record of what it did. What dpkg was asked for by itself is not
// in there.
func (Manager) Who(env *kind.Env, name string) (who string, when time.Time) {
	data, err := machine.ReadFile(env.Machine, historyFile)
	if err != nil {
		return "", when
	}
	var last []byte
	for stanza := range stanzas(data) {
		if stanza = append([]byte("\n"), stanza...); changes(stanza, name) {
			last = stanza
		}
	}
	if last == nil {
		return "", when
	}
	const form = "2006-01-02  15:04:05" // in the host's own time
	if when, err = time.ParseInLocation(form, field(last, "Start-Date"), time.Local); err != nil {
		return "", when
	}
	var words []string
	if by := field(last, "Requested-By"); by != "" {
		words = append(words, "by "+by)
	}
	if command := field(last, "Commandline"); command != "" {
		words = append(words, "with `"+command+"`")
	}
	return strings.Join(words, " "), when
}

// changes says whether a stanza is about a package, which is there with its
// architecture and, in parentheses, its versions.
func changes(stanza []byte, name string) bool {
	bare, _, _ := strings.Cut(name, ":")
	for _, what := range []string{"Install", "Upgrade", "Downgrade", "Reinstall", "Remove", "Purge"} {
		list := strings.Split(field(stanza, what), "), ")
		if slices.ContainsFunc(list, func(s string) bool { return strings.HasPrefix(s, bare+":") }) {
			return true
		}
	}
	return false
}
