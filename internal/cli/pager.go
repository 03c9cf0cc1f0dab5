package cli

import (
	"os"
	"os/exec"
	"strings"

	"jadekettle/internal/present/text"
)

// paged are the commands whose output is read, not followed: on a terminal, what is longer than the screen is shown in
// a pager.
var paged = map[string]bool{"compare": true, "drift": true, "facts": true, "facts compare": true,
	"hosts": true, "hosts show": true, "job last": true, "job list": true, "job show": true, "kinds": true,
	"kinds functions": true, "kinds search": true, "lint": true, "preview": true, "report": true, "runs": true,
	"runs diff": true, "runs history": true, "runs search": true, "runs show": true, "runs timing": true,
	"schema": true, "secret readers": true, "source list": true, "source show": true, "status": true, "why": true}

// page keeps back what a command prints until its end, if that may be shown in a pager.
func (e *Env) page(read bool) {
	out, ok := e.Out.(*text.Writer)
	if read && e.Height > 0 && !e.noPager && !e.Plain && ok && e.release == nil {
		e.release = out.Hold(nil)
	}
}

// endPage prints what was kept back: through a pager where it is longer than the screen.
func (e *Env) endPage() {
	if e.release == nil {
		return
	}
	defer e.release()
	out, ok := e.Out.(*text.Writer)
	if !ok || strings.Count(out.Held(), "\n") < e.Height {
		return
	}
	words := strings.Fields(e.Getenv("PAGER"))
	if len(words) == 0 {
		words = []string{"less"}
	}
	pager := exec.Command(words[0], words[1:]...)
	pager.Stdout, pager.Stderr = os.Stdout, os.Stderr
	pager.Env = os.Environ()
	if e.Getenv("LESS") == "" {
		pager.Env = append(pager.Env, "LESS=FRX") // colors, and no clearing of a screen that is not filled
	}
	in, err := pager.StdinPipe()
	if err != nil || pager.Start() != nil { // there is none: it is printed as ever
		return
	}
	out.Redirect(in)
	e.release()
	in.Close()
	pager.Wait()
}
