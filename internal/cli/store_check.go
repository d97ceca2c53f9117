package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/view"
)

func (a *app) storeCheck(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	s, b, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	type row struct {
		Bytes               int
		Write, Read, Remove time.Duration
	}
	var rows []row
	for _, size := range []int{4 << 10, 16 << 20} {
		r, err := store.CheckPlace(ctx, b, size)
		if err != nil {
			return fmt.Errorf("store %s: %w", name, err)
		}
		rows = append(rows, row{r.Bytes, r.Write, r.Read, r.Remove})
		if r.ClockOff.Abs() > store.ClockTolerance {
			return fmt.Errorf("store %s: %w", name, store.ClockError(r.ClockOff))
		}
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{
			"store": name, "location": b.String(), "encrypted": s.Encrypted(), "write_only": s.WriteOnly(),
			"probes": rows})
	}
	t := a.screen.Table(">size", ">write", ">read back", ">delete")
	for _, r := range rows {
		t.Row(view.Bytes(int64(r.Bytes)), view.Duration(r.Write), view.Duration(r.Read), view.Duration(r.Remove))
	}
	t.Print(0)
	a.screen.Line("%s at %s takes, gives back and deletes objects, and lets none be replaced", a.screen.Accent(name), b)
	switch {
	case s.WriteOnly():
		a.screen.Line("it opens with the key configured, which can write and not read content")
	case s.Encrypted():
		a.screen.Line("it opens with the key configured")
	}
	return nil
}
