package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
)

// everyStore makes a command that lists something of a store do so of each store that is
// configured, where neither a cluster nor a store is named. As JSON the lists are one, of which each
// entry says its store.
func (a *app) everyStore(do cli.ActionFunc) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		cfg, err := a.config(c)
		if err != nil {
			return err
		}
		if c.Args().Present() || c.String("store") != "" || len(cfg.Stores) < 2 {
			return do(ctx, c)
		}
		out := a.screen.Out
		defer func() {
			a.screen.Out = out
			_ = c.Set("store", "")
		}()
		var errs []error
		merged := []map[string]any{}
		for i, name := range config.Names(cfg.Stores) {
			if err := c.Set("store", name); err != nil {
				return err
			}
			var said bytes.Buffer
			if a.screen.JSON {
				a.screen.Out = &said
			} else {
				if i > 0 {
					a.screen.Line("")
				}
				a.screen.Line("store %s", a.screen.Accent(name))
			}
			if err := do(ctx, c); err != nil {
				errs = append(errs, fmt.Errorf("store %s: %w", name, err))
			}
			if a.screen.JSON {
				list, err := entries(&said)
				if err != nil {
					return err
				}
				for _, e := range list {
					e["store"] = name
					merged = append(merged, e)
				}
			}
		}
		a.screen.Out = out
		if a.screen.JSON {
			errs = append(errs, a.screen.Encode(merged))
		}
		return errors.Join(errs...)
	}
}

// entries reads a list, or one entry, of what a command has printed as JSON.
func entries(r io.Reader) (list []map[string]any, err error) {
	var raw json.RawMessage
	if err := json.NewDecoder(r).Decode(&raw); err == io.EOF {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	if json.Unmarshal(raw, &list) == nil {
		return list, nil
	}
	var one map[string]any
	if err := json.Unmarshal(raw, &one); err != nil {
		return nil, err
	}
	return []map[string]any{one}, nil
}
