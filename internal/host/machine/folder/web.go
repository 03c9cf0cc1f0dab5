package folder

import (
	"archive/tar"
	"bytes"
	"crypto/sha1"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"jadekettle/internal/host/machine"
)

// webStandIns reach made-up servers at example.org.
var webStandIns = map[string]standIn{"curl": (*Machine).curl, "git": (*Machine).git}

// curl fetches from made-up web servers into the file behind -o.
func (h *Machine) curl(c machine.Command, out io.Writer) int {
	address := c.Args[len(c.Args)-1]
	text, ok := h.page(address)
	at := slices.Index(c.Args, "-o")
	if w := slices.Index(c.Args, "-w"); at < 0 && w > 0 { // the page itself, and what -w asks about it
		status := "200"
		if !ok {
			status, text = "404", "not here\n"
		}
		fmt.Fprint(out, text, strings.NewReplacer("%{http_code}", status, "%{certs}", "").Replace(c.Args[w+1]))
		return 0
	}
	to := c.Args[at+1]
	if to == "/dev/null" { // only a look at where the address leads
		fmt.Fprint(out, map[bool]string{true: "200 ", false: "404 "}[ok])
		return 0
	}
	if !ok {
		fmt.Fprint(out, "curl: (22) The requested URL returned error: 404\n")
		return 22
	}
	return h.writeFor(to, text, out)
}

// page gives what is at an address: Spec.Pages, or something made up below
// example.org, but for what is called missing.
func (h *Machine) page(address string) (string, bool) {
	if text, ok := h.spec.Pages[address]; ok {
		return text, true
	}
	host, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(address, "https://"), "http://"), "/")
	switch {
	case !strings.HasSuffix(host, "example.org") || strings.Contains(address, "missing"):
		return "", false
	case strings.HasSuffix(address, ".tar"):
		return parcel(), true
	}
	return "made up: " + path.Base(address) + "\n", true
}

// resolve knows every name below example.org, as `getent ahosts`.
func resolve(name string, out io.Writer) int {
	if name != "localhost" && !strings.HasSuffix(name, "example.org") {
		return 2
	}
	fmt.Fprint(out, "192.0.2.80      STREAM\n192.0.2.80      DGRAM\n")
	return 0
}

// parcel is an archive with one program in it.
func parcel() string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	text := "#!/bin/sh\necho tides\n"
	at := time.Unix(1_700_000_000, 0)
	w.WriteHeader(&tar.Header{Typeflag: tar.TypeDir, Name: "viewer-2.1/", Mode: 0o755, ModTime: at})
	w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: "viewer-2.1/bin/viewer", Mode: 0o755, Size: int64(len(text)),
		ModTime: at})
	io.WriteString(w, text)
	w.Close()
	return b.String()
}

// commitOf is what a made-up repository has at a revision.
func commitOf(url, rev string) string { return fmt.Sprintf("%x", sha1.Sum([]byte(url+" "+rev))) }

// git knows repositories below example.org, in which every revision is but for
// what is called missing. It keeps what it must in .git/simulated: the address,
// and the commit.
func (h *Machine) git(c machine.Command, out io.Writer) int {
	args, at := c.Args[1:], ""
	for len(args) > 1 && (args[0] == "-c" || args[0] == "-C") {
		if args[0] == "-C" {
			at = args[1]
		}
		args = args[2:]
	}
	note := path.Join(at, ".git/simulated")
	url, commit, _ := strings.Cut(strings.TrimSuffix(h.read(note), "\n"), " ")
	keep := func(url, commit string) int { return h.writeFor(note, url+" "+commit+"\n", out) }
	switch args[0] {
	case "ls-remote":
		return lsRemote(args[2], args[3], out)
	case "init":
		return keep("", "")
	case "remote":
		return keep(args[3], commit)
	case "config":
		return answer(url, out)
	case "rev-parse":
		return answer(commit, out)
	case "checkout":
		args[len(args)-1] = strings.TrimSuffix(args[len(args)-1], "^{commit}")
		if code := h.writeFor(path.Join(at, "README"), "made up at "+args[len(args)-1]+"\n", out); code != 0 {
			return code
		}
		return keep(url, args[len(args)-1])
	}
	return 0 // fetch, cat-file, status
}

func answer(text string, out io.Writer) int {
	if text == "" {
		return 1
	}
	fmt.Fprintln(out, text)
	return 0
}

func lsRemote(url, rev string, out io.Writer) int {
	switch {
	case !strings.Contains(url, "example.org"):
		fmt.Fprintf(out, "fatal: unable to access '%s': Could not resolve host\n", url)
		return 128
	case !strings.Contains(rev, "missing"):
		fmt.Fprintf(out, "%s\trefs/heads/%s\n", commitOf(url, rev), rev)
	}
	return 0
}
