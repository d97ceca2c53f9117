// Package notify tells people what is wrong, and when it is over.
//
//	alert.go    what is told
//	outbox.go   a queue a channel: one that is slow or dead delays no other
//	ledger.go   what has been told, kept in the store and, where it refuses, in memory
//	webhook.go  a JSON body to a URL
//	mail.go     e-mail
package notify

import (
	"context"
	"encoding/hex"
	"fmt"
	"os"
	"slices"
	"time"

	"github.com/zeebo/blake3"

	"dexamen/internal/config"
)

// Alert is something that somebody has to be told, once.
type Alert struct {
	// Key names the alert; as long as it is the same one, it is told once.
	Key     string    `json:"key"`
	About   string    `json:"about"` // what it is about, as the configuration names it
	Store   string    `json:"store"`
	Cluster string    `json:"cluster,omitempty"`
	Policy  string    `json:"policy,omitempty"`
	Since   time.Time `json:"since"`
	Text    string    `json:"text"`
	Do      string    `json:"do,omitempty"` // what to do about it
	// Over: it has ended.
	Over bool `json:"over"`
}

// Passes reports whether an alert is of something that has happened, and does not end.
func (a *Alert) Passes() bool {
	return a.About == "drop" || a.About == "burst" || a.About == "temporary"
}

// ID names a notice: that something has begun, or that it is over. It is the same however often
// it is sent, and whoever sends it.
func (a *Alert) ID() string {
	sum := blake3.Sum256(fmt.Appendf(nil, "%q %q %q %d %t", a.Store, a.Cluster, a.Key, a.Since.UnixMilli(), a.Over))
	return "alert_" + hex.EncodeToString(sum[:12])
}

// of names what an alert is of, whether it begins or is over.
func (a *Alert) of() string { return a.Store + "\x00" + a.Cluster + "\x00" + a.Key }

// Title returns an alert in a few words.
func Title(a Alert) string {
	of := a.Cluster
	switch {
	case of == "" && a.Store == "":
		of = "dexamen itself"
	case of == "":
		of = "store " + a.Store
	}
	if a.Over {
		return fmt.Sprintf("dexamen: well again: %s of %s", a.About, of)
	}
	return fmt.Sprintf("dexamen: %s of %s", a.About, of)
}

// Message is what goes out by a channel.
type Message struct {
	Alert
	ID    string    `json:"id"`
	Host  string    `json:"host"`
	Time  time.Time `json:"time"`
	Title string    `json:"title"`
}

// NewMessage returns the message that an alert is told by.
func NewMessage(a Alert) Message {
	host, _ := os.Hostname()
	return Message{Alert: a, ID: a.ID(), Host: host, Time: time.Now().UTC().Truncate(time.Second), Title: Title(a)}
}

// Channel is one way to tell people. Send returns nil only where what is at the other end has
// taken the message.
type Channel interface {
	Name() string
	Send(ctx context.Context, m Message) error
}

// Channels returns the ways that a configuration names.
func Channels(c config.Alerts) (out []Channel) {
	if c.Webhook != nil {
		out = append(out, &webhook{*c.Webhook})
	}
	if c.Mail != nil {
		out = append(out, &mailbox{*c.Mail})
	}
	return out
}

// Wanted reports whether a configuration asks for alerts about something.
func Wanted(c config.Alerts, about string) bool {
	return len(c.About) == 0 || slices.Contains(c.About, about)
}
