//go:build linux

package files

import "context"

// Run implements [Host].
func (l *Local) Run(ctx context.Context, command, env []string) (string, error) {
	return RunCommand(ctx, command, env)
}

// StandBy implements [Host]: on this machine the guard stands by.
func (l *Local) StandBy(context.Context, string, []string, []string, int64) error { return nil }

// Relieve implements [Host].
func (l *Local) Relieve(context.Context, string) (bool, error) { return false, nil }
