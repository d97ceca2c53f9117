package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/explain"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// listedStore is a configured store.
type listedStore struct {
	Store     string   `json:"store"`
	Location  string   `json:"location"`
	Made      bool     `json:"made"`
	Encrypted bool     `json:"encrypted"`
	Format    int      `json:"format,omitempty"`
	Policies  []string `json:"policies"`
	MirrorOf  []string `json:"mirror_of"`
	Error     string   `json:"error,omitempty"`
}

// openWithin is for how long a store that is listed may take to open.
const openWithin = 15 * time.Second

func (a *app) storeList(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, openWithin)
	defer cancel()
	names := config.Names(cfg.Stores)
	rows := make([]listedStore, len(names))
	var mu sync.Mutex
	var group sync.WaitGroup
	for i, name := range names {
		rows[i] = listedStore{Store: name, Location: cfg.Stores[name].Location, Policies: []string{},
			MirrorOf: []string{},
			Error:    "it does not answer within " + openWithin.String()}
		for _, p := range config.Names(cfg.Policies) {
			for _, cl := range cfg.Protected(cfg.Policies[p]) {
				if st, err := cfg.StoreFor(cfg.Policies[p], cl); err == nil && st == name {
					rows[i].Policies = append(rows[i].Policies, p)
					break
				}
			}
		}
		for _, p := range config.Names(cfg.Policies) {
			for _, cl := range cfg.Protected(cfg.Policies[p]) {
				st, err := cfg.StoreFor(cfg.Policies[p], cl)
				if err == nil && cfg.Policies[p].MirrorTo == name && !slices.Contains(rows[i].MirrorOf, st) {
					rows[i].MirrorOf = append(rows[i].MirrorOf, st)
				}
			}
		}
		group.Go(func() {
			s, b, err := openListed(ctx, cfg, name)
			mu.Lock()
			defer mu.Unlock()
			r := &rows[i]
			if r.Error = ""; err != nil {
				if !errors.Is(err, store.ErrNoStore) {
					r.Error = explain.Error(err)
				}
				return
			}
			r.Location, r.Made, r.Encrypted, r.Format = b.String(), true, s.Encrypted(), s.Format
			s.Close()
		})
	}
	done := make(chan struct{})
	go func() { group.Wait(); close(done) }()
	select {
	case <-done:
	case <-ctx.Done(): // what hangs is left
	}
	mu.Lock()
	defer mu.Unlock()
	return a.showStores(rows)
}

func openListed(ctx context.Context, cfg *config.Config, name string) (*store.Store, blob.Backend, error) {
	b, err := cfg.Open(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	s, err := openStore(ctx, cfg, b, name, func(*store.Options) {})
	return s, b, err
}

func (a *app) showStores(rows []listedStore) error {
	failed := 0
	if a.screen.JSON {
		if err := a.screen.Encode(rows); err != nil {
			return err
		}
	}
	t := a.screen.Table("store", "location", "policies", "")
	for _, r := range rows {
		how := "opens"
		switch {
		case r.Error != "":
			how = a.screen.Loss(r.Error)
			failed++
		case len(r.MirrorOf) > 0 && !r.Made:
			how = "the first copy of " + strings.Join(r.MirrorOf, ", ") + " makes it"
		case len(r.MirrorOf) > 0:
			how = "opens; a copy of " + strings.Join(r.MirrorOf, ", ")
		case !r.Made:
			how = "not made yet: dexamen store create " + r.Store
		case !r.Encrypted:
			how = "opens; not encrypted"
		}
		t.Row(a.screen.Accent(r.Store), r.Location, strings.Join(r.Policies, ", "), how)
	}
	if !a.screen.JSON {
		t.Print(0)
	}
	if failed > 0 {
		return fmt.Errorf("%w: %s cannot be opened", run.ErrIncomplete, view.Plural(int64(failed), "store"))
	}
	return nil
}
