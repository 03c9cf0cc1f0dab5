package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"golang.org/x/term"

	"jadekettle/internal/app"
	"jadekettle/internal/core/problem"
	"jadekettle/internal/present/text"
)

// Agree implements app.Asker.
func (e *Env) Agree(question string) bool {
	fmt.Fprintf(e.Err, "%s [y/N] ", question)
	return e.yes()
}

// yes reads an answer.
func (e *Env) yes() bool {
	answer := strings.ToLower(e.answer())
	return answer == "y" || answer == "yes"
}

// answer reads a line. What is read ahead stays for the next question.
func (e *Env) answer() string {
	line, _ := e.reader().ReadString('\n')
	return strings.TrimSpace(line)
}

// reader is the one reader of In, so that no question loses what another has read ahead.
func (e *Env) reader() *bufio.Reader {
	e.inOnce.Do(func() { e.in = bufio.NewReader(e.In) })
	return e.in
}

// CanAsk refuses what asks before it starts where nobody can be asked. Where the output goes to
// does not matter.
func (e *Env) CanAsk(what string) error {
	if e.Terminal {
		return nil
	}
	return problem.Errorf("%s needs confirmation, but this is not a terminal", what).Remedy("use --yes")
}

// AgreeOn asks whether to go on with hosts in an environment.
func (e *Env) AgreeOn(what, env string, hosts []string) bool {
	in := ""
	if env != "" {
		in = "In the environment " + env + ". "
	}
	list := strings.Join(hosts[:min(5, len(hosts))], ", ")
	if more := len(hosts) - 5; more > 0 {
		list += fmt.Sprintf(" and %d more", more)
	}
	return e.Agree(fmt.Sprintf("%s%s %s: %s?", in, text.Line(what), text.Count(len(hosts), "host"), list))
}

// NothingDone says that somebody answered no.
func (e *Env) NothingDone() error {
	fmt.Fprintln(e.Err, "Canceled; nothing was changed.")
	return Exit(app.CodeFailed)
}

// Secret implements app.Asker.
func (e *Env) Secret(prompt string) ([]byte, error) {
	defer e.shown.Load().aside()()
	fmt.Fprint(e.Err, prompt)
	defer fmt.Fprintln(e.Err)
	return term.ReadPassword(int(os.Stdin.Fd()))
}

// Key implements app.Asker.
func (e *Env) Key(ctx context.Context, prompt string) bool {
	defer e.shown.Load().aside()()
	fmt.Fprint(e.Err, prompt)
	defer fmt.Fprintln(e.Err)
	pressed := make(chan byte, 1)
	go func() { pressed <- e.oneKey() }()
	select {
	case b := <-pressed:
		const interrupt = 3 // Ctrl-C, which a terminal in raw mode hands over as it is
		if b == interrupt {
			interruptSelf()
			select {
			case <-ctx.Done():
			case <-time.After(time.Second): // nobody listens for it
			}
		}
		return b != 'q' && b != interrupt
	case <-ctx.Done():
		return false
	}
}

// oneKey reads a key, or a line where there is no terminal to read keys from.
func (e *Env) oneKey() byte {
	const nobody = 'q'
	f, ok := e.In.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		line, err := e.reader().ReadString('\n')
		if err != nil {
			return nobody
		}
		return line[0]
	}
	old, err := term.MakeRaw(int(f.Fd()))
	if err != nil {
		return nobody
	}
	defer term.Restore(int(f.Fd()), old)
	one := make([]byte, 1)
	if _, err := io.ReadFull(f, one); err != nil {
		return nobody
	}
	return one[0]
}

func interruptSelf() {
	if self, err := os.FindProcess(os.Getpid()); err == nil {
		self.Signal(os.Interrupt)
	}
}

// AgreeUnlessNo puts a question to which most say yes.
func (e *Env) AgreeUnlessNo(question string) bool {
	fmt.Fprintf(e.Err, "%s [Y/n] ", question)
	line, err := e.reader().ReadString('\n')
	return err == nil && !strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "n")
}
