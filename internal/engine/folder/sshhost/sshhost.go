// Package sshhost gives access to the folders of other machines over SSH: it logs in, sees
// that the machine is the one it is taken for, and runs this program there, which serves
// files (package remote).
package sshhost

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"dexamen/internal/core/remedy"
	"dexamen/internal/engine"
	"dexamen/internal/engine/folder/files"
	"dexamen/internal/engine/folder/remote"
)

// Options say which machine, and how.
type Options struct {
	Host, Port, User string
	// Target has the secret, the pins and the options of the cluster.
	Target engine.Target
	// Elevate is a command that the program is run through there.
	Elevate []string
	// Program is where it is there; it is put there where empty.
	Program string
}

func text(v any) error {
	if s, ok := v.(string); !ok || s == "" {
		return fmt.Errorf("%v is no text", v)
	}
	return nil
}

// Options of clusters.
var (
	KeyOption        = engine.Option{Name: "key_file", Usage: "the private key to log in with", Check: text}
	KnownHostsOption = engine.Option{Name: "known_hosts",
		Usage: "the file of host keys that are trusted besides those " +
			"pinned (default ~/.ssh/known_hosts)", Check: text}
)

const connectTime = 20 * time.Second

func (o *Options) address() string {
	port := o.Port
	if port == "" {
		port = "22"
	}
	return net.JoinHostPort(o.Host, port)
}

func (o *Options) option(name string) string {
	s, _ := o.Target.Options[name].(string)
	return s
}

// Open logs in and runs the program there.
func Open(ctx context.Context, o Options) (_ files.Host, err error) {
	conn, err := dial(ctx, o)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			_ = conn.Close()
		}
	}()
	program := o.Program
	if program == "" {
		if program, err = place(ctx, conn); err != nil {
			return nil, fmt.Errorf("%s: this program cannot be put there: %w; put it there yourself and name it with "+
				"options.program", o.Host, err)
		}
	}
	words := append(slices.Clone(o.Elevate), program, remote.Argument)
	p, err := run(conn, words)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.Host, err)
	}
	hello, cancel := context.WithTimeout(ctx, connectTime)
	defer cancel()
	c, err := remote.NewClient(hello, p, o.Host)
	if err != nil {
		_ = p.Close()
		return nil, fmt.Errorf("%w: %s: %s did not begin to serve files: %w%s", engine.ErrUnreachable, o.Host,
			strings.Join(words[:len(words)-1], " "), err, p.said())
	}
	return c, nil
}

// dial connects and logs in.
func dial(ctx context.Context, o Options) (*ssh.Client, error) {
	if o.User == "" {
		return nil, fmt.Errorf("%s: nobody to log in as: ssh://USER@%s/…, or login.user", o.Host, o.Host)
	}
	methods, tried, err := logins(o)
	if err != nil {
		return nil, err
	}
	known, err := hostKeys(o)
	if err != nil {
		return nil, err
	}
	raw, err := (&net.Dialer{Timeout: connectTime, KeepAlive: 10 * time.Second}).DialContext(ctx, "tcp", o.address())
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", engine.ErrUnreachable, o.address(), err)
	}
	_ = raw.SetDeadline(time.Now().Add(connectTime))
	cfg := &ssh.ClientConfig{User: o.User, Auth: methods, HostKeyCallback: known.check,
		HostKeyAlgorithms: known.algorithms,
		Timeout:           connectTime}
	sc, chans, reqs, err := ssh.NewClientConn(raw, o.address(), cfg)
	if err != nil {
		_ = raw.Close()
		if known.refused != nil {
			return nil, known.refused
		}
		if known.passed { // what comes next is the login
			return nil, fmt.Errorf("%w: %s@%s: tried %s", engine.ErrLogin, o.User, o.address(),
				strings.Join(tried, ", "))
		}
		return nil, fmt.Errorf("%w: %s: %w", engine.ErrUnreachable, o.address(), err)
	}
	_ = raw.SetDeadline(time.Time{})
	return ssh.NewClient(sc, chans, reqs), nil
}

// logins returns the ways to log in: the key named, or the secret, or the agent and the
// usual keys.
func logins(o Options) (methods []ssh.AuthMethod, tried []string, err error) {
	signer := func(path string) (ssh.Signer, error) {
		b, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		s, err := ssh.ParsePrivateKey(b)
		var locked *ssh.PassphraseMissingError
		if errors.As(err, &locked) && o.Target.Secret != "" {
			s, err = ssh.ParsePrivateKeyWithPassphrase(b, []byte(o.Target.Secret))
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return s, nil
	}
	if key := o.option(KeyOption.Name); key != "" {
		s, err := signer(key)
		if err != nil {
			return nil, nil, fmt.Errorf("options.key_file: %w", err)
		}
		return []ssh.AuthMethod{ssh.PublicKeys(s)}, []string{"the key of " + key}, nil
	}
	if secret := o.Target.Secret; secret != "" {
		answer := func(_, _ string, questions []string, _ []bool) ([]string, error) {
			out := make([]string, len(questions))
			for i := range out {
				out[i] = secret
			}
			return out, nil
		}
		return []ssh.AuthMethod{ssh.Password(secret), ssh.KeyboardInteractive(answer)}, []string{"the password"}, nil
	}
	var signers []ssh.Signer
	if sock := os.Getenv("SSH_AUTH_SOCK"); sock != "" {
		if c, err := net.Dial("unix", sock); err == nil {
			list, _ := agent.NewClient(c).Signers()
			signers = append(signers, list...)
			tried = append(tried, "the agent's keys")
		}
	}
	if home, err := os.UserHomeDir(); err == nil {
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			if s, err := signer(filepath.Join(home, ".ssh", name)); err == nil {
				signers = append(signers, s)
				tried = append(tried, "~/.ssh/"+name)
			}
		}
	}
	if len(signers) == 0 {
		return nil, nil, fmt.Errorf("%w: %s: there is no key to log in with: options.key_file names one, login a "+
			"password's secret, or an agent has it", engine.ErrLogin, o.Host)
	}
	return []ssh.AuthMethod{ssh.PublicKeys(signers...)}, tried, nil
}

// trusted is which host keys are.
type trusted struct {
	host       string
	cluster    string
	pins       []string
	file       ssh.HostKeyCallback // nil: none
	algorithms []string
	refused    error
	passed     bool
}

func hostKeys(o Options) (*trusted, error) {
	t := &trusted{host: o.Host, cluster: o.Target.Name, pins: o.Target.TLS.Pins}
	path := o.option(KnownHostsOption.Name)
	if path == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return t, nil //nolint:nilerr // without a home there are pins alone
		}
		path = filepath.Join(home, ".ssh", "known_hosts")
		if _, err := os.Stat(path); err != nil {
			return t, nil //nolint:nilerr // likewise
		}
	}
	var err error
	if t.file, err = knownhosts.New(path); err != nil {
		return nil, fmt.Errorf("known hosts: %w", err)
	}
	// A host may have keys of several kinds, of which the file has some: those are asked for.
	var ke *knownhosts.KeyError
	if errors.As(t.file(o.address(), &net.TCPAddr{}, nothingKey{}), &ke) && len(t.pins) == 0 {
		for _, k := range ke.Want {
			kinds := []string{k.Key.Type()}
			if k.Key.Type() == ssh.KeyAlgoRSA {
				kinds = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
			}
			t.algorithms = append(t.algorithms, kinds...)
		}
	}
	return t, nil
}

// nothingKey is a key that no host has.
type nothingKey struct{}

func (nothingKey) Type() string                        { return "none" }
func (nothingKey) Marshal() []byte                     { return []byte("none") }
func (nothingKey) Verify([]byte, *ssh.Signature) error { return errors.New("it is no key") }

func (t *trusted) check(host string, addr net.Addr, key ssh.PublicKey) error {
	print := ssh.FingerprintSHA256(key)
	if slices.Contains(t.pins, print) {
		t.passed = true
		return nil
	}
	why := "is not known"
	if t.file != nil {
		err := t.file(host, addr, key)
		if err == nil {
			t.passed = true
			return nil
		}
		var ke *knownhosts.KeyError
		if errors.As(err, &ke) && len(ke.Want) > 0 {
			why = "is another one than the known one of this kind: the machine was made anew, or somebody is in between"
		}
	}
	if len(t.pins) > 0 {
		why = "is none of those that were trusted: the machine was made anew, or somebody is in between"
	}
	t.refused = remedy.With(fmt.Errorf("%w: %s: its host key %s (%s) %s", engine.ErrUnreachable, t.host, print,
		key.Type(),
		why), remedy.TrustHost, t.cluster)
	return t.refused
}

// HostKey returns what a machine shows, without logging in.
func HostKey(ctx context.Context, o Options) (engine.Certificate, error) {
	raw, err := (&net.Dialer{Timeout: connectTime}).DialContext(ctx, "tcp", o.address())
	if err != nil {
		return engine.Certificate{}, fmt.Errorf("%w: %s: %w", engine.ErrUnreachable, o.address(), err)
	}
	defer raw.Close()
	_ = raw.SetDeadline(time.Now().Add(connectTime))
	var seen ssh.PublicKey
	enough := errors.New("seen")
	cfg := &ssh.ClientConfig{User: "nobody", Timeout: connectTime,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error { seen = key; return enough }}
	_, _, _, err = ssh.NewClientConn(raw, o.address(), cfg)
	if seen == nil {
		return engine.Certificate{}, fmt.Errorf("%w: %s: %w", engine.ErrUnreachable, o.address(), err)
	}
	return engine.Certificate{Address: o.address(), Fingerprint: ssh.FingerprintSHA256(seen),
		Subject: "host key, " + seen.Type()}, nil
}

// process is the program at the other end; it is a connection.
type process struct {
	conn    *ssh.Client
	session *ssh.Session
	in      io.WriteCloser
	out     io.Reader
	errs    *tail
	once    sync.Once
}

func run(conn *ssh.Client, words []string) (*process, error) {
	s, err := conn.NewSession()
	if err != nil {
		return nil, err
	}
	p := &process{conn: conn, session: s, errs: &tail{}}
	s.Stderr = p.errs
	if p.in, err = s.StdinPipe(); err != nil {
		return nil, err
	}
	if p.out, err = s.StdoutPipe(); err != nil {
		return nil, err
	}
	var line []string
	for _, w := range words {
		line = append(line, quote(w))
	}
	return p, s.Start(strings.Join(line, " "))
}

// quote has a shell take a word as it is.
func quote(w string) string { return "'" + strings.ReplaceAll(w, "'", `'\''`) + "'" }

func (p *process) Read(b []byte) (int, error)  { return p.out.Read(b) }
func (p *process) Write(b []byte) (int, error) { return p.in.Write(b) }

// Close ends the program and the connection.
func (p *process) Close() (err error) {
	p.once.Do(func() { err = p.close() })
	return err
}

func (p *process) close() error {
	_ = p.in.Close()
	ended := make(chan struct{})
	go func() { _ = p.session.Wait(); close(ended) }()
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
	}
	err := p.conn.Close()
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

func (p *process) said() string {
	if s := p.errs.String(); s != "" {
		return ": " + s
	}
	return ""
}
