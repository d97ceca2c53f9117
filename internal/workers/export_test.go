package workers

import (
	"context"
)

// Left returns how many messages lie at the servers: tasks, and what came of them.
func Left(ctx context.Context, e *Engine) int {
	n := 0
	for _, name := range []string{tasksStream, "KV_" + resultsBucket} {
		s, err := e.js.Stream(ctx, name)
		if err != nil {
			return -1
		}
		i, err := s.Info(ctx)
		if err != nil {
			return -1
		}
		n += int(i.State.Msgs)
	}
	return n
}

// LoseMessages throws all tasks away.
func LoseMessages(ctx context.Context, e *Engine) {
	if err := e.tasks.Purge(ctx); err != nil {
		panic(err)
	}
}
