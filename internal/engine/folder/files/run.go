package files

import (
	"context"
	"fmt"
	"os"
	"strings"

	"dexamen/internal/core/process"
)

// HiddenPrefix begins the names of what Dexamen keeps beside folders.
const HiddenPrefix = ".dexamen-"

// RunCommand runs a command on this machine and returns what it printed.
func RunCommand(ctx context.Context, command, env []string) (string, error) {
	cmd := process.Command(ctx, command)
	cmd.Env = append(os.Environ(), env...)
	out := process.Bounded{Limit: 1 << 20}
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	text := strings.TrimSpace(out.String())
	if err != nil {
		if text != "" {
			return text, fmt.Errorf("%s: %w: %s", command[0], err, lastLine(text))
		}
		return text, fmt.Errorf("%s: %w", command[0], err)
	}
	return text, nil
}

func lastLine(s string) string {
	s = s[strings.LastIndexByte(s, '\n')+1:]
	return s[:min(len(s), 300)]
}
