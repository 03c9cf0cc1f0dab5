package notify

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/base64"
	"fmt"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/smtp"
	"net/textproto"
	"time"

	"jadekettle/internal/core/problem"
	"jadekettle/internal/core/settings"
)

// mail prepares a mail with the report: as its text, or, of what is none, beside it.
func (t *Notifier) mail(to *settings.Notify, n *News) (func(context.Context) error, error) {
	message, err := compose(to, n, time.Now())
	if err != nil {
		return nil, err
	}
	var password []byte
	if to.User != "" {
		if password, err = t.secret(to.PasswordFile); err != nil {
			return nil, err
		}
	}
	return func(ctx context.Context) error { return post(ctx, to, string(password), message) }, nil
}

// mediaTypes of reports that are added to a mail as a file, and what that is called.
var mediaTypes = map[string][2]string{"json": {"application/json", "run.json"},
	"csv":   {"text/csv; charset=utf-8", "run.csv"},
	"junit": {"application/xml", "run.xml"}, "html": {"text/html; charset=utf-8", "run.html"}}

// compose writes a mail (RFC 5322) with the report of a run.
func compose(to *settings.Notify, n *News, now time.Time) ([]byte, error) {
	report, err := n.Report(to.As)
	if err != nil {
		return nil, err
	}
	text := report
	media, beside := mediaTypes[to.As]
	if beside {
		if text, err = n.Report("text"); err != nil {
			return nil, err
		}
	}
	var b bytes.Buffer
	head := func(name, v string) { fmt.Fprintf(&b, "%s: %s\r\n", name, v) }
	head("From", to.From)
	for i, a := range to.Mail {
		if i == 0 {
			fmt.Fprintf(&b, "To: %s", a)
			continue
		}
		fmt.Fprintf(&b, ",\r\n %s", a)
	}
	b.WriteString("\r\n")
	head("Subject", mime.QEncoding.Encode("utf-8", fmt.Sprintf("Run %d, %s: %s", n.Run.Number, n.Run.Mode,
		n.Run.Sentence())))
	head("Date", now.Format(time.RFC1123Z))
	head("Message-ID", fmt.Sprintf("<%s.%s@jadekettle.invalid>", n.Run.Run, to.Name)) // the same at each try
	head("MIME-Version", "1.0")
	head("Auto-Submitted", "auto-generated") // RFC 3834: no answer is wanted
	w := multipart.NewWriter(&b)
	head("Content-Type", "multipart/mixed; boundary="+w.Boundary())
	b.WriteString("\r\n")
	part, err := w.CreatePart(textproto.MIMEHeader{"Content-Type": {"text/plain; charset=utf-8"},
		"Content-Transfer-Encoding": {"quoted-printable"}})
	if err != nil {
		return nil, err
	}
	q := quotedprintable.NewWriter(part)
	q.Write(text)
	if err := q.Close(); err != nil {
		return nil, err
	}
	if beside {
		part, err := w.CreatePart(textproto.MIMEHeader{"Content-Type": {media[0]},
			"Content-Transfer-Encoding": {"base64"},
			"Content-Disposition":       {`attachment; filename="` + media[1] + `"`}})
		if err != nil {
			return nil, err
		}
		const wide = 57 // bytes that are 76 characters of base64 (RFC 2045, 6.8)
		for len(report) > 0 {
			k := min(wide, len(report))
			fmt.Fprintf(part, "%s\r\n", base64.StdEncoding.EncodeToString(report[:k]))
			report = report[k:]
		}
	}
	return b.Bytes(), w.Close()
}

// post hands a mail to a server by SMTP.
func post(ctx context.Context, to *settings.Notify, password string, message []byte) error {
	host, _, err := net.SplitHostPort(to.Server)
	if err != nil {
		return &finalError{err}
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", to.Server)
	if err != nil {
		return err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	return hand(conn, host, to, password, message, here(conn))
}

// hand hands a mail over on a connection that is encrypted, or leads to this machine itself: what
// runs report, and a password, are nobody's on the way.
func hand(conn net.Conn, host string, to *settings.Notify, password string, message []byte, here bool) error {
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return err
	}
	secure := false
	if ok, _ := c.Extension("STARTTLS"); ok {
		if err := c.StartTLS(&tls.Config{ServerName: host}); err != nil {
			return fmt.Errorf("%s: %w", to.Server, err)
		}
		secure = true
	}
	if !secure && !here {
		return &finalError{problem.Errorf("%s does not support STARTTLS, so nothing is sent to it", to.Server).
			Remedy("use a server that does, or a relay on this machine")}
	}
	if to.User != "" {
		if err := c.Auth(smtp.PlainAuth("", to.User, password, host)); err != nil {
			return &finalError{fmt.Errorf("%s: %w", to.Server, err)}
		}
	}
	if err := c.Mail(to.From); err != nil {
		return fmt.Errorf("%s: %w", to.Server, err)
	}
	for _, a := range to.Mail {
		if err := c.Rcpt(a); err != nil {
			return fmt.Errorf("%s: %s: %w", to.Server, a, err)
		}
	}
	w, err := c.Data()
	if err != nil {
		return fmt.Errorf("%s: %w", to.Server, err)
	}
	if _, err := w.Write(message); err != nil {
		return fmt.Errorf("%s: %w", to.Server, err)
	}
	if err := w.Close(); err != nil {
		return fmt.Errorf("%s: %w", to.Server, err)
	}
	c.Quit() // it is taken by now
	return nil
}

// here says whether a connection leads to this machine itself.
func here(c net.Conn) bool {
	a, ok := c.RemoteAddr().(*net.TCPAddr)
	return ok && a.IP.IsLoopback()
}
