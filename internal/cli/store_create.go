package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/pin"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) storeCreate(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	b, name, err := a.backend(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	for _, pn := range config.Names(a.cfg.Policies) {
		if p := a.cfg.Policies[pn]; p.MirrorTo == name {
			from := p.Store
			for _, cl := range a.cfg.Protected(p) {
				from, _ = a.cfg.StoreFor(p, cl)
			}
			return fmt.Errorf("%w: %s is where policy %s copies store %s to, and the first copy makes it: a "+
				"store of its "+
				"own could not become one; make it now with: dexamen store mirror %s %s", run.ErrRefused, name,
				pn, from,
				from, name)
		}
	}
	conf := a.cfg.Stores[name]
	o := store.CreateOptions{Tool: "dexamen " + Version, Plain: c.Bool("plain"), Parity: conf.Parity,
		ImmutableFor: time.Duration(conf.ImmutableFor)}
	made := ""
	switch {
	case o.Plain && (len(c.StringSlice("recipient")) > 0 || conf.Key != nil):
		return usage("--plain, and a key for it: a store is encrypted or it is not")
	case !o.Plain:
		if o.Holders, made, err = a.holders(ctx, c, name); err != nil {
			return err
		}
	}
	if s3, ok := b.(*blob.S3); ok {
		if conf.ImmutableFor > 0 {
			s3.UseLocks()
		}
		_, err := store.CheckPlace(ctx, b, 4<<10)
		if errors.Is(err, store.ErrReplaced) || errors.Is(err, store.ErrSpent) {
			// Nothing is safe in a place where an object can be replaced, but
			// for what makes sure of it by itself.
			s3.UseReservations()
			o.NoConditions = true
			_, err = store.CheckPlace(ctx, b, 4<<10)
		}
		if err != nil {
			return fmt.Errorf("store %s: %w", name, err)
		}
	}
	d, err := store.Create(ctx, b, o)
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	identity, err := a.identify(ctx, b, name)
	if err != nil {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{
			"store": name, "location": b.String(), "id": d.ID, "format": d.Format, "encrypted": !o.Plain,
			"parity": d.Parity, "immutable_for": d.ImmutableFor, "no_conditions": d.NoConditions,
			"key_file": made, "identity": identity})
	}
	sc := a.screen
	sc.Line("store %s made at %s (format %d)", sc.Accent(name), b, d.Format)
	if o.Plain {
		sc.Line("  not encrypted: whoever can read that place can read what is protected")
	}
	for _, h := range o.Holders {
		sc.Line("  encrypted; opens with %s", h.For)
	}
	if made != "" {
		sc.Line("  the key is new, in %s", made)
		sc.Line("  %s", sc.Loss("keep a copy of it elsewhere: without it nothing can be restored"))
	}
	if d.Parity != "" {
		var pieces, more int
		_, _ = fmt.Sscanf(d.Parity, "%d+%d", &pieces, &more)
		sc.Line("  parity: an object is %d pieces and %d more; any %d of them may be damaged", pieces, more, more)
	}
	if d.ImmutableFor > 0 {
		sc.Line("  objects are locked for %s", view.Duration(time.Duration(conf.ImmutableFor)))
		if _, ok := b.(*blob.Dir); ok {
			sc.Line("  in a folder this stops mistakes, not somebody who may write there and means to; a bucket " +
				"with object lock does")
		}
	}
	if d.NoConditions {
		sc.Line(
			"  this place does not heed conditions: objects are made by reservations (docs/reference/format.md), " +
				"which takes " +
				"more requests")
	}
	if identity != "" && conf.Identity == "" {
		sc.Line("  this host knows it from now on; others do with this line under stores.%s:", name)
		sc.Line("    identity: %s", identity)
	}
	return nil
}

// identify returns the identity of a store that was just made, and has this host remember it. It
// is empty where this host cannot open what it made for others.
func (a *app) identify(ctx context.Context, b blob.Backend, name string) (string, error) {
	secret, err := a.cfg.Key(ctx, name)
	if err != nil {
		return "", usageError{err}
	}
	o := store.Options{}
	if secret != "" {
		if o.Unlock, err = store.ParseSecret(secret); err != nil {
			return "", err
		}
	}
	s, err := store.Open(ctx, b, o)
	if errors.Is(err, store.ErrNoKey) {
		return "", nil
	}
	if err != nil {
		return "", fmt.Errorf("store %s: %w", name, err)
	}
	defer s.Close()
	// A host that cannot remember it has its identity in the configuration, or goes without.
	_ = pin.Host().Set(placeOf(a.cfg, name), s.Identity())
	return s.Identity(), nil
}
