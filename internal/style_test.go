package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// Limits that keep code readable without scrolling.
const (
	maxColumns = 120 // at a tab width of 4
	maxLines   = 80  // of a function, without the tables of a test
	maxFields  = 15  // of a struct, where state is held
)

// few are the layers in which state is held, whose structs are small.
var few = []string{"internal/app/", "internal/cli/", "internal/fleet/", "internal/host/worker/"}

// standard are methods that the standard library defines, whose names say it all.
var standard = map[string]bool{"Error": true, "Unwrap": true, "GoString": true, "MarshalText": true}

// TestCodeIsEasyToRead holds the whole tree to a few measures.
func TestCodeIsEasyToRead(t *testing.T) {
	fset, packages, taught := token.NewFileSet(), map[string]bool{}, map[string]bool{}
	err := filepath.WalkDir("..", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Ext(p) != ".go" {
			return err
		}
		src, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		f, err := parser.ParseFile(fset, p, src, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		name := strings.TrimPrefix(filepath.ToSlash(p), "../")
		columns(t, name, src)
		decls(t, fset, name, f)
		if !strings.HasSuffix(p, "_test.go") {
			packages[filepath.Dir(name)] = true
			taught[filepath.Dir(name)] = taught[filepath.Dir(name)] || f.Doc != nil
		}
		return nil
	})
	if err != nil || len(packages) < 50 {
		t.Fatalf("%d packages were read: %v", len(packages), err)
	}
	for dir := range packages {
		if !taught[dir] {
			t.Errorf("%s has no package comment", dir)
		}
	}
}

// columns finds lines that are too long.
func columns(t *testing.T, name string, src []byte) {
	t.Helper()
	n := 0
	for line := range strings.Lines(string(src)) {
		n++
		wide := 0
		for _, r := range strings.TrimSuffix(line, "\n") {
			if wide++; r == '\t' {
				wide += 3 - (wide-1)%4
			}
		}
		if wide > maxColumns {
			t.Errorf("%s:%d has %d columns", name, n, wide)
		}
	}
}

// decls finds functions and structs that are too large, and what is exported without a comment.
func decls(t *testing.T, fset *token.FileSet, name string, f *ast.File) {
	t.Helper()
	test := strings.HasSuffix(name, "_test.go")
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			n := lines(fset, d)
			if test {
				n -= tables(fset, d)
			}
			if n > maxLines {
				t.Errorf("%s: %s has %d lines", name, d.Name.Name, n)
			}
			if !test && d.Doc == nil && d.Name.IsExported() && !standard[d.Name.Name] &&
				(d.Recv == nil || exported(d.Recv.List[0].Type)) {
				t.Errorf("%s: %s has no comment", name, d.Name.Name)
			}
		case *ast.GenDecl:
			for _, spec := range d.Specs {
				ts, ok := spec.(*ast.TypeSpec)
				if !ok {
					continue
				}
				if !test && ts.Name.IsExported() && ts.Doc == nil && d.Doc == nil {
					t.Errorf("%s: %s has no comment", name, ts.Name.Name)
				}
				if n := fields(ts.Type); n > maxFields && !test && held(name) {
					t.Errorf("%s: %s has %d fields", name, ts.Name.Name, n)
				}
			}
		}
	}
}

func lines(fset *token.FileSet, n ast.Node) int {
	return fset.Position(n.End()).Line - fset.Position(n.Pos()).Line + 1
}

// tables counts the lines of composite literals: a table in a test is data, however long.
func tables(fset *token.FileSet, f *ast.FuncDecl) (n int) {
	ast.Inspect(f, func(node ast.Node) bool {
		c, ok := node.(*ast.CompositeLit)
		if ok {
			n += lines(fset, c) - 1
		}
		return !ok
	})
	return n
}

func held(name string) bool {
	for _, dir := range few {
		if strings.HasPrefix(name, dir) {
			return true
		}
	}
	return false
}

// exported says whether a receiver's type is.
func exported(t ast.Expr) bool {
	switch t := t.(type) {
	case *ast.StarExpr:
		return exported(t.X)
	case *ast.IndexExpr:
		return exported(t.X)
	case *ast.IndexListExpr:
		return exported(t.X)
	case *ast.Ident:
		return t.IsExported()
	}
	return false
}

// fields counts those of a struct.
func fields(t ast.Expr) (n int) {
	s, ok := t.(*ast.StructType)
	if !ok {
		return 0
	}
	for _, f := range s.Fields.List {
		n += max(1, len(f.Names))
	}
	return n
}
