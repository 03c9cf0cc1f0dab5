package expr

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"

	"github.com/antlr4-go/antlr/v4"

	"cel.dev/cel-go/parser/gen"
)

// TestVersionsAsDpkgHasThem holds random versions to dpkg itself, where it is.
func TestVersionsAsDpkgHasThem(t *testing.T) {
	if _, err := exec.LookPath("dpkg"); err != nil {
		t.Skip("no dpkg here")
	}
	random := rand.New(rand.NewPCG(1, 2))
	version := func() string {
		var b strings.Builder
		b.WriteByte('1') // which a version has to begin with
		for range random.IntN(6) {
			b.WriteString([]string{"0", "1", "09", "10", ".", "~", "+", "-", "a", "rc", "b"}[random.IntN(11)])
		}
		return strings.TrimRight(b.String(), "-")
	}
	var script strings.Builder
	var pairs [][2]string
	for range 400 {
		p := [2]string{version(), version()}
		pairs = append(pairs, p)
		fmt.Fprintf(&script, "if dpkg --compare-versions %[1]s lt %[2]s; then echo -1; elif dpkg --compare-versions "+
			"%[1]s eq %[2]s; then echo 0; else echo 1; fi\n", p[0], p[1])
	}
	c := exec.Command("sh")
	c.Stdin = strings.NewReader(script.String())
	out, err := c.Output()
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range strings.Fields(string(out)) {
		got := CompareVersions(pairs[i][0], pairs[i][1])
		if (want == "-1") != (got < 0) || (want == "0") != (got == 0) {
			t.Errorf("%s and %s compare as %d, and dpkg says %s", pairs[i][0], pairs[i][1], got, want)
		}
	}
}

// TestTokensAsCELHasThem holds our notion of where texts and comments end to
// CEL's own lexer.
func TestTokensAsCELHasThem(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	pieces := []string{`"`, "'", `\\`, `\"`, "a", "r", "R", "b", "x", "//", "/", " ", "{", "}", `"""`, "'''", "+"}
	tried := 0
	for range 20000 {
		var b strings.Builder
		for range 1 + random.IntN(9) {
			b.WriteString(pieces[random.IntN(len(pieces))])
		}
		text := b.String()
		want, valid := tokensOfCEL(text)
		if !valid {
			continue
		}
		tried++
		var got []string
		for i := 0; i < len(text); {
			n, what := token(text, i)
			if what != aByte {
				got = append(got, text[i:i+n])
			}
			i += n
		}
		if strings.Join(got, "\x00") != strings.Join(want, "\x00") {
			t.Fatalf("%s is parted into %q, and CEL has %q", text, got, want)
		}
	}
	if tried < 1000 {
		t.Errorf("only %d texts were expressions", tried)
	}
}

// tokensOfCEL gives the texts and comments that CEL's lexer finds, texts from
// their quotes on; false for what is not an expression.
func tokensOfCEL(text string) ([]string, bool) {
	lexer := gen.NewCELLexer(antlr.NewInputStream(text))
	lexer.RemoveErrorListeners()
	wrong := &complaints{DefaultErrorListener: antlr.NewDefaultErrorListener()}
	lexer.AddErrorListener(wrong)
	var out []string
	for _, tok := range lexer.GetAllTokens() {
		switch tok.GetTokenType() {
		case gen.CELLexerSTRING, gen.CELLexerBYTES, gen.CELLexerCOMMENT:
			out = append(out, strings.TrimLeft(tok.GetText(), "rRbB"))
		}
	}
	return out, wrong.n == 0
}

type complaints struct {
	*antlr.DefaultErrorListener
	n int
}

func (c *complaints) SyntaxError(antlr.Recognizer, any, int, int, string, antlr.RecognitionException) {
	c.n++
}

// TestNothingHides holds what was taken without a word before.
func TestNothingHides(t *testing.T) {
	for text, want := range map[string]string{
		`data.nope || true`:                            `unknown key "nope" in data`,
		`data.gauge.nope == 1 && false`:                `unknown key "nope" in data.gauge`,
		`has(data.gauge.nope) && data.gauge.nope == 1`: "false",
		`true || data.nope`:                            "true",
		`has(data.gauge.list.x)`:                       "false",
		`true // it's "one`:                            "true",
		"true // it's\n && false":                      "false",
		`sum([9007199254740993, 0])`:                   "9007199254740993",
		`sum([9223372036854775807, 1])`:                "does not fit 64 bits",
		`most([9007199254740993, 9007199254740992])`:   "9007199254740993",
		`round(9007199254740993)`:                      "9007199254740993",
		`bytes("9007199254740993")`:                    "9007199254740993",
		`from_json("9223372036854775808")`:             "does not fit 64 bits",
		`from_json("1 2")`:                             "there is text after",
		`flatten(upto(99999).map(x, upto(3)))`:         "",
		`format("%s", [upto(99999).map(x, "aaaa" + string(x)).join("")]).size()`: "",
	} {
		p, err := Compile(text, at, Scope{})
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		got, err := p.Eval(vars())
		said := fmt.Sprint(got)
		if err != nil {
			said = err.Error()
		}
		if !strings.Contains(said, want) {
			t.Errorf("%s gives %s, want %s", text, said, want)
		}
	}
	for text, want := range map[string]string{
		`{{ index data "no-such" }}`:     `unknown key "no-such"`,
		`{{ index data.gauge.list 99 }}`: "index 99 is out of range",
		`{{ printf "%d" "x" }}`:          "takes an integer",
		`{{ printf "%s" }}`:              "fewer values",
		"ä{{ data.nope }}":               "x.tmpl:1:5",
		`{{ $x := "aaaaaaaa" }}{{ range upto 40 }}{{ $x = print $x $x }}{{ end }}`: "longer than 1 MiB",
	} {
		tm, err := ParseTemplate("x.tmpl", text)
		if err == nil {
			_, _, _, err = tm.Execute(vars())
		}
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s gives %v, want %s", text, err, want)
		}
	}
}
