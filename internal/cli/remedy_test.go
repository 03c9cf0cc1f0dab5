package cli_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"jadekettle/internal/cli"
	"jadekettle/internal/cli/commands"
)

// callForm finds what a text has people call.
var (
	callForm  = regexp.MustCompile("`jadekettle ([^`]+)`")
	plainWord = regexp.MustCompile(`^[a-z]+$`)
)

// TestSuggestedCommands holds every call that is in a text of the program, in a remedy above all, to the commands
// and flags that there are.
func TestSuggestedCommands(t *testing.T) {
	root, calls := cli.Tree(commands.All), map[string]string{}
	err := filepath.WalkDir("..", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(p) != ".go" || strings.HasSuffix(p, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), p, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			x, is := n.(ast.Expr)
			if !is {
				return true
			}
			said, whole := written(x)
			for _, m := range callForm.FindAllStringSubmatch(said, -1) {
				calls[m[1]] = p
			}
			return !whole
		})
		return nil
	})
	if err != nil || len(calls) < 40 {
		t.Fatalf("%d calls are reported of: %v", len(calls), err)
	}
	for call, in := range calls {
		if wrong := cannot(root, strings.Fields(call)); wrong != "" {
			t.Errorf("%s suggests `jadekettle %s`, where %s", in, call, wrong)
		}
	}
}

// written gives the text of a string, also of one in pieces; what is not a literal is as X.
func written(x ast.Expr) (text string, is bool) {
	switch x := x.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(x.Value)
		return text, err == nil && x.Kind == token.STRING
	case *ast.BinaryExpr:
		a, isText := written(x.X)
		b, isTextToo := written(x.Y)
		if x.Op != token.ADD || !isText && !isTextToo {
			return "", false
		}
		if !isText {
			a = "X"
		}
		if !isTextToo {
			b = "X"
		}
		return a + b, true
	}
	return "", false
}

// cannot says what is wrong with a call; empty where nothing is.
func cannot(root *cobra.Command, words []string) string {
	at := root
	for i, w := range words {
		if w == "--" {
			return ""
		}
		name, _, _ := strings.Cut(strings.TrimPrefix(w, "--"), "=")
		if strings.HasPrefix(w, "--") && at.Flags().Lookup(name) == nil && root.PersistentFlags().Lookup(name) == nil {
			return at.Name() + " has no flag " + w
		}
		if strings.HasPrefix(w, "-") || i > 0 && strings.HasPrefix(words[i-1], "-") {
			continue
		}
		below := slices.IndexFunc(at.Commands(), func(c *cobra.Command) bool { return c.Name() == w })
		if below >= 0 {
			at = at.Commands()[below]
		} else if plainWord.MatchString(w) && at.HasSubCommands() && !at.Runnable() {
			return "no command given " + w
		}
	}
	return ""
}
