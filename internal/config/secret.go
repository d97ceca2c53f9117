package config

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"dexamen/internal/command"
)

// Login is how to log in. The secret is named, not held.
type Login struct {
	User   string `yaml:"user"`
	Secret Secret `yaml:"secret"`
	// AuthDatabase is the database that holds the user.
	AuthDatabase string `yaml:"auth_database"`
	// Certificate: the certificate of tls.certificate is the login.
	Certificate bool `yaml:"certificate"`
}

// TLS describes how to speak TLS.
type TLS struct {
	CA          string `yaml:"ca"`
	Certificate string `yaml:"certificate"`
}

// Secret describes where a secret is to be had from; exactly one is set.
type Secret struct {
	Env     string   `yaml:"env"`
	File    string   `yaml:"file"`
	Command []string `yaml:"command"`
}

// check sees that a user is named and that his secret is to be had one way.
func (l *Login) check(k *checker, at string) {
	if l.User == "" {
		k.bad(at, "has no user")
	}
	l.Secret.check(k, at+".secret")
}

// check sees that a secret is named in one way, and is there, as far as that can
// be seen without running a command.
func (s *Secret) check(k *checker, at string) {
	n := 0
	for _, set := range []bool{s.Env != "", s.File != "", len(s.Command) > 0} {
		if set {
			n++
		}
	}
	switch {
	case n != 1:
		k.bad(at, "give one of env, file, command")
	case s.Env != "" && os.Getenv(s.Env) == "":
		k.lack(at, "the environment variable %s is not set", s.Env)
	case s.File != "":
		if st, err := os.Stat(s.File); err != nil {
			k.lack(at, "%v", err)
		} else if !st.Mode().IsRegular() {
			k.bad(at, "%s is no file", s.File)
		} else if st.Mode().Perm()&0o004 != 0 {
			k.warnings = append(k.warnings, fmt.Sprintf("%s: %s: every user of this machine can read %s (mode %04o); "+
				"chmod 600 it, or 640 where a group must", locate(at, k.sources...), strings.TrimPrefix(at, "$."),
				s.File,
				st.Mode().Perm()))
		}
	case len(s.Command) > 0:
		if _, err := exec.LookPath(s.Command[0]); err != nil {
			k.lack(at, "%v", err)
		}
	}
}

const (
	maxSecret  = 64 << 10
	secretTime = 30 * time.Second
)

func (s Secret) read(ctx context.Context) (string, error) {
	switch {
	case s.Env == "" && s.File == "" && len(s.Command) == 0:
		return "", errors.New("it names neither env, file nor command")
	case s.Env != "":
		v, ok := os.LookupEnv(s.Env)
		if !ok {
			return "", fmt.Errorf("the environment has no %s", s.Env)
		}
		return v, nil
	case s.File != "":
		b, err := readFile(s.File, maxSecret)
		return strings.TrimRight(string(b), "\r\n"), err
	}
	ctx, cancel := context.WithTimeout(ctx, secretTime)
	defer cancel()
	cmd, out, said := command.Command(ctx, s.Command), command.Bounded{Limit: maxSecret}, command.Tail{}
	cmd.Stdout, cmd.Stderr = &out, &said
	if err := cmd.Run(); err != nil {
		switch {
		case ctx.Err() != nil:
			err = fmt.Errorf("it was still running after %s and was ended", secretTime)
		case errors.Is(err, command.ErrTooMuch) || out.Over:
			err = fmt.Errorf("%w: a secret has at most %d KiB", command.ErrTooMuch, maxSecret>>10)
		case said.Line() != "":
			err = fmt.Errorf("%w: %s", err, said.Line())
		}
		return "", fmt.Errorf("command %s: %w", s.Command[0], err)
	}
	return strings.TrimRight(out.String(), "\r\n"), nil
}
