package daemon

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"dexamen/internal/config"
)

// Notifier tells people.
type Notifier struct{ config.Alerts }

// alertMessage is the body a webhook gets.
type alertMessage struct {
	Alert
	Host  string    `json:"host"`
	Time  time.Time `json:"time"`
	Title string    `json:"title"`
}

// Any reports whether anybody is to be told.
func (n Notifier) Any() bool { return n.Webhook != nil || n.Mail != nil }

// Send sends an alert, or that it is over, wherever that is configured.
func (n Notifier) Send(ctx context.Context, t Alert) error {
	host, _ := os.Hostname()
	msg := alertMessage{Alert: t, Host: host, Time: time.Now().UTC().Truncate(time.Second), Title: Title(t)}
	var errs []error
	for what, send := range map[string]func(context.Context, alertMessage) error{"webhook": n.post, "mail": n.mail} {
		var err error
		for try := range 3 {
			if err = send(ctx, msg); err == nil || ctx.Err() != nil {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(time.Duration(try+1) * 2 * time.Second):
			}
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("alert by %s: %w", what, err))
		}
	}
	return errors.Join(errs...)
}

// Title is an alert in a few words.
func Title(t Alert) string {
	of := t.Cluster
	if of == "" {
		of = "store " + t.Store
	}
	if t.Over {
		return fmt.Sprintf("dexamen: well again: %s of %s", t.About, of)
	}
	return fmt.Sprintf("dexamen: %s of %s", t.About, of)
}

func (n Notifier) post(ctx context.Context, msg alertMessage) error {
	if n.Webhook == nil {
		return nil
	}
	body, err := json.Marshal(msg)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, n.Webhook.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if n.Webhook.Token != nil {
		token, err := n.Webhook.Token.Read(ctx)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(resp.Body, 300))
	if resp.StatusCode/100 != 2 {
		return fmt.Errorf("%s answered %s: %s", n.Webhook.URL, resp.Status, strings.TrimSpace(string(said)))
	}
	return nil
}

func (n Notifier) mail(ctx context.Context, msg alertMessage) error {
	m := n.Mail
	if m == nil {
		return nil
	}
	out := mail.NewMsg()
	if err := errors.Join(out.From(m.From), out.To(m.To...)); err != nil {
		return err
	}
	out.Subject(msg.Title)
	text := msg.Text + "\n\n"
	if msg.Over {
		text = "Well again. It was:\n\n" + text
	} else if msg.Do != "" {
		text += "See: " + msg.Do + "\n"
	}
	out.SetBodyString(mail.TypeTextPlain,
		fmt.Sprintf("%s\nsince   %s\nstore   %s\ncluster %s\npolicy  %s\nhost    %s\n", text,
			msg.Since.Format(time.RFC3339), msg.Store, msg.Cluster, msg.Policy, msg.Host))
	host, port, err := net.SplitHostPort(m.Server)
	if err != nil {
		host, port = m.Server, "587"
	}
	num, err := strconv.Atoi(port)
	if err != nil {
		return fmt.Errorf("mail server %s: %w", m.Server, err)
	}
	opt := []mail.Option{mail.WithPort(num), mail.WithTimeout(30 * time.Second), mail.WithTLSPolicy(mail.TLSMandatory)}
	if m.WithoutTLS {
		opt = append(opt, mail.WithTLSPolicy(mail.NoTLS))
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
	return c.DialAndSendWithContext(ctx, out)
}
