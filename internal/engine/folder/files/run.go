package files

import (
	"context"
	"fmt"
	"os"
	"strings"

	"dexamen/internal/command"
)

// HiddenPrefix begins the names of what Dexamen keeps beside folders.
const HiddenPrefix = ".dexamen-"

// RunCommand runs a command on this machine and returns what it printed.
func RunCommand(ctx context.Context, args, env []string) (string, error) {
	cmd := command.Command(ctx, args)
	cmd.Env = append(os.Environ(), env...)
	out := command.Bounded{Limit: 1 << 20}
	cmd.Stdout, cmd.Stderr = &out, &out
	err := cmd.Run()
	text := strings.TrimSpace(out.String())
	if err != nil {
		if text != "" {
			return text, fmt.Errorf("%s: %w: %s", args[0], err, lastLine(text))
		}
		return text, fmt.Errorf("%s: %w", args[0], err)
	}
	return text, nil
}

func lastLine(s string) string {
	s = s[strings.LastIndexByte(s, '\n')+1:]
	return s[:min(len(s), 300)]
}
