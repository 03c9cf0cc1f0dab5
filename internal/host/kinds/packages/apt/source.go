package apt

import (
	"context"
	"strings"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/kinds/packages/backend"
	"jadekettle/internal/host/machine"
)

// CheckSource wants the suites that every source of Debian's kin has.
func (Manager) CheckSource(s backend.Source) error {
	if len(s.Suites) == 0 {
		return problem.Errorf("the repository %s needs suites for apt", s.Name).
			Remedy("write suites = [\"stable\"], or [\"./\"] for a flat repository")
	}
	for _, suite := range s.Suites {
		if flat := strings.HasSuffix(suite, "/"); flat == (len(s.Components) > 0) {
			return problem.Errorf("the suite %q has %d components", suite, len(s.Components)).
				Remedy("a suite that ends in a slash takes none, any other needs at least one")
		}
	}
	return nil
}

const sources, suffix = "/etc/apt/sources.list.d/", ".sources"

func sourceFile(name string) string { return sources + name + suffix }

// Sources is where apt reads sources from, in deb822 form.
func (Manager) Sources() (folder, end string) { return sources, suffix }

// ParseSource reads one stanza of deb822 with the fields that we write.
func (Manager) ParseSource(name, text string) (s backend.Source, keyFile string, ok bool) {
	s.Name = name
	trusted := false
	for _, line := range kind.SplitLines(strings.TrimSpace(text)).List {
		if strings.HasPrefix(line, "#") {
			continue
		}
		field, v, found := strings.Cut(line, ":")
		words := strings.Fields(v)
		if !found || len(words) == 0 || strings.TrimSpace(field) != field {
			return s, "", false
		}
		switch strings.ToLower(field) {
		case "x-repolib-name":
			s.About = strings.TrimSpace(v)
		case "types":
			ok = len(words) == 1 && words[0] == "deb"
		case "uris":
			s.URLs = words
		case "suites":
			s.Suites = words
		case "components":
			s.Components = words
		case "architectures":
			s.Architectures = words
		case "signed-by":
			keyFile = strings.TrimSpace(v)
		case "trusted":
			trusted = words[0] == "yes"
		default:
			return s, "", false
		}
	}
	return s, keyFile, ok && len(s.URLs) > 0 && trusted == (keyFile == "") && (keyFile == "" || keyFile[0] == '/')
}

// SourceFiles writes a source in the form that sources.list(5) calls deb822.
func (Manager) SourceFiles(s backend.Source) (source, key backend.File) {
	key = backend.File{Path: "/etc/apt/keyrings/" + s.Name + ".asc", Text: s.Key}
	var b strings.Builder
	line := func(name string, words ...string) {
		if len(words) > 0 && words[0] != "" {
			b.WriteString(name + ": " + strings.Join(words, " ") + "\n")
		}
	}
	b.WriteString("# " + s.Signature + "\n")
	line("X-Repolib-Name", s.About)
	line("Types", "deb")
	line("URIs", s.URLs...)
	line("Suites", s.Suites...)
	line("Components", s.Components...)
	line("Architectures", s.Architectures...)
	if s.Key != "" {
		line("Signed-By", key.Path)
	} else {
		line("Trusted", "yes")
	}
	return backend.File{Path: sourceFile(s.Name), Text: b.String()}, key
}

// TrySource runs apt-get update for one source; by itself it takes what cannot be
// fetched for a warning.
func (Manager) TrySource(ctx context.Context, env *kind.Env, name string) error {
	c := command("update", "-o", "Dir::Etc::SourceList="+sourceFile(name), "-o", "Dir::Etc::SourceParts=/dev/null",
		"-o", "APT::Get::List-Cleanup=0", "-o", "APT::Update::Error-Mode=any")
	_, err := machine.Do(ctx, env.Machine, c, errorLine)
	return err
}
