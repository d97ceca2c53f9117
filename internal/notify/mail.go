package notify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"dexamen/internal/config"
	"dexamen/internal/engine"
)

// mailbox sends alerts by e-mail.
type mailbox struct{ config.Mail }

func (*mailbox) Name() string { return "mail" }

// Send implements [Channel].
func (m *mailbox) Send(ctx context.Context, a Message) error {
	out, err := m.letter(a.Title, a.ID+"@"+a.Host, m.To)
	if err != nil {
		return err
	}
	text := a.Text + "\n\n"
	if a.Over {
		text = "Well again. It was:\n\n" + text
	} else if a.Do != "" {
		text += "See: " + a.Do + "\n"
	}
	for _, l := range [][2]string{{"since", a.Since.Format(time.RFC3339)}, {"store", a.Store}, {"cluster", a.Cluster},
		{"policy", a.Policy}, {"host", a.Host}, {"id", a.ID}} {
		if l[1] != "" {
			text += fmt.Sprintf("\n%-8s%s", l[0], l[1])
		}
	}
	out.SetBodyString(mail.TypeTextPlain, text+"\n")
	return m.deliver(ctx, out)
}

// SendFile sends a letter with a file by a way of e-mail; id is the same however often it is sent.
func SendFile(ctx context.Context, by config.Mail, to []string, id, title, text, name string, content []byte) error {
	m := &mailbox{by}
	if len(to) == 0 {
		to = by.To
	}
	out, err := m.letter(title, id, to)
	if err != nil {
		return err
	}
	out.SetBodyString(mail.TypeTextPlain, text+"\n")
	if err := out.AttachReader(name, bytes.NewReader(content)); err != nil {
		return err
	}
	return m.deliver(ctx, out)
}

// letter begins a letter.
func (m *mailbox) letter(title, id string, to []string) (*mail.Msg, error) {
	out := mail.NewMsg()
	if err := errors.Join(out.From(m.From), out.To(to...)); err != nil {
		return nil, err
	}
	out.Subject(title)
	out.SetMessageIDWithValue(id)
	out.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nothing answers it
	return out, nil
}

// deliver gives a letter to the server.
func (m *mailbox) deliver(ctx context.Context, out *mail.Msg) error {
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		host, port = m.Server, "587"
	}
	num, err := strconv.Atoi(port)
	if err != nil {
		return fmt.Errorf("mail server %s: %w", m.Server, err)
	}
	tls, err := engine.TLS{CAFile: m.CA}.Config()
	if err != nil {
		return err
	}
	tls.ServerName = host
	opt := []mail.Option{mail.WithPort(num), mail.WithTimeout(sendLimit - time.Second), mail.WithTLSConfig(tls)}
	switch m.TLS {
	case "always":
		opt = append(opt, mail.WithSSL())
	case "none":
		opt = append(opt, mail.WithTLSPolicy(mail.NoTLS))
	default:
		opt = append(opt, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if m.Login != nil {
		secret, err := m.Login.Secret.Read(ctx)
		if err != nil {
			return err
		}
		opt = append(opt, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.Login.User),
			mail.WithPassword(secret))
	}
	c, err := mail.NewClient(host, opt...)
	if err != nil {
		return err
	}
	if err := c.DialAndSendWithContext(ctx, out); err != nil {
		return fmt.Errorf("mail server %s: %w", m.Server, err)
	}
	return nil
}
