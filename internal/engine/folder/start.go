package folder

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/core/wait"
)

// filled puts a folder's path into a command.
func filled(command []string, dir string) []string {
	out := make([]string, len(command))
	for i, w := range command {
		out[i] = strings.ReplaceAll(w, "{folder}", dir)
	}
	return out
}

// StartServer implements [engine.ServerStarter]: on the machine that has the folder. In
// commands {folder} is its path.
func (c *cluster) StartServer(ctx context.Context, namespace string, start, ready []string,
	within time.Duration) error {
	p, dir := c.find(namespace)
	env := []string{"DEXAMEN_CLUSTER=" + c.target.Name, "DEXAMEN_FOLDER=" + dir}
	if _, err := p.host.Run(ctx, filled(start, dir), env); err != nil {
		return fmt.Errorf("starting a server on %s: %w", dir, err)
	}
	if len(ready) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for {
		_, err := p.host.Run(ctx, filled(ready, dir), env)
		if err == nil {
			return nil
		}
		if wait.For(ctx, 200*time.Millisecond) != nil {
			return fmt.Errorf("the server on %s is not ready after %s: %w", dir, within, err)
		}
	}
}
