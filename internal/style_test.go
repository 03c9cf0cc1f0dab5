package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
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
	var expressions []string
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
			expressions = append(expressions, patterns(t, name, f)...)
			packages[filepath.Dir(name)] = true
			taught[filepath.Dir(name)] = taught[filepath.Dir(name)] || f.Doc != nil
		}
		return nil
	})
	if err != nil || len(packages) < 50 {
		t.Fatalf("%d packages were read: %v", len(packages), err)
	}
	if len(expressions) < 80 {
		t.Errorf("only %d regular expressions were found", len(expressions))
	}
	for _, e := range expressions { // which the program compiles when they are first used
		if _, err := regexp.Compile(e); err != nil {
			t.Error(err)
		}
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

// patterns gives the expressions of lazy.Regexp in a file, and finds those that are compiled at every start.
func patterns(t *testing.T, name string, f *ast.File) (found []string) {
	t.Helper()
	for _, d := range f.Decls {
		d, ok := d.(*ast.GenDecl)
		if !ok || d.Tok != token.VAR {
			continue
		}
		ast.Inspect(d, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			switch called(call) {
			case "regexp.MustCompile":
				t.Errorf("%s compiles a regular expression at every start; use lazy.Regexp", name)
			case "lazy.Regexp":
				if text, ok := literal(call.Args[0]); ok {
					found = append(found, text)
				}
			}
			return true
		})
	}
	return found
}

// called names the function of a package that is called.
func called(call *ast.CallExpr) string {
	s, ok := call.Fun.(*ast.SelectorExpr)
	if !ok {
		return ""
	}
	pkg, _ := s.X.(*ast.Ident)
	if pkg == nil {
		return ""
	}
	return pkg.Name + "." + s.Sel.Name
}

// literal gives a text that is written out, perhaps in parts; a part with a name is taken for one that matches.
func literal(e ast.Expr) (string, bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(e.Value)
		return text, err == nil
	case *ast.BinaryExpr:
		x, _ := literal(e.X)
		y, _ := literal(e.Y)
		return x + y, true
	}
	return "", false
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
