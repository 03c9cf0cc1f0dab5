package cli

import (
	"crypto/rand"
	"embed"
	"encoding/base32"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"jadekettle/internal/core/problem"

	"github.com/spf13/cobra"
)

// starter is the project that init makes.
//
//go:embed all:starter
var starter embed.FS

func (a *App) initCommand() *cobra.Command {
	return &cobra.Command{
		Use: "init [DIR]", Short: "Make a small project", GroupID: "start", Args: cobra.MaximumNArgs(1),
		Long: "Init makes a project in a folder, which may exist but must hold none of its files yet. Each file says " +
			"in\na few lines of comment what it is for and how it is written.",
		RunE: func(_ *cobra.Command, args []string) error {
			dir := "."
			if len(args) == 1 {
				dir = args[0]
			}
			made, err := unfold(starter, "starter", dir)
			if err != nil {
				return err
			}
			for _, name := range made {
				fmt.Fprintln(a.Out, filepath.Join(dir, name))
			}
			if _, err := a.writeSchemas(filepath.Join(dir, schemaDir)); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "%s, the schemas that editors read\n", filepath.Join(dir, schemaDir))
			fmt.Fprintf(a.Out, "\nA project is ready. Next: cd %s, jadekettle lint, jadekettle rehearse, "+
				"jadekettle preview\n", dir)
			return nil
		},
	}
}

// unfold writes an embedded project into a folder, giving it an identity of
// its own. Nothing is written when any of its files is there.
func unfold(from fs.FS, top, dir string) ([]string, error) {
	var names []string
	err := fs.WalkDir(from, top, func(p string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			names = append(names, strings.TrimPrefix(p, top+"/"))
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return nil, problem.Errorf("%s is there already", filepath.Join(dir, name)).
				Remedy("choose another folder, or move it away")
		} else if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	var id [15]byte
	rand.Read(id[:])
	identity := strings.ToLower(base32.StdEncoding.EncodeToString(id[:]))
	for _, name := range names {
		text, err := fs.ReadFile(from, top+"/"+name)
		if err != nil {
			return nil, err
		}
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(to, []byte(strings.ReplaceAll(string(text), "PROJECT-IDENTITY", identity)),
			0o644); err != nil {
			return nil, err
		}
	}
	return names, nil
}
