package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/blob"
	"dexamen/internal/core/store"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) storeCommands() *cli.Command {
	return &cli.Command{Name: "store", Usage: "make, try, look at, check and copy the places backups go", Category: setUp, OnUsageError: onUsage, Commands: []*cli.Command{
		a.command("", "create", "STORE", "make a configured store", `It is encrypted unless --plain is given: to the key or the passphrase that
stores.STORE.key names, and to every --recipient. Where it names a file
that is not there, a key is made and put into it.`, a.storeCreate,
			&cli.BoolFlag{Name: "plain", Usage: "do not encrypt"},
			&cli.StringSliceFlag{Name: "recipient", Usage: "a public `KEY` (age1…) that can open it too; may be repeated"}),
		a.command("", "check", "STORE", "write, read back and delete a probe, timed", "", a.storeProbe),
		a.command("", "inspect", "[STORE]", "show what a store holds and costs", "", a.storeInspect),
		a.command("", "scrub", "STORE", "read everything and say what is damaged, and what that means", `Exit code 4 where something is lost, 3 where something is damaged that nothing
is lost by. With --one-in 7 every scrub reads another seventh of the content, and
points and logs always; seven scrubs read all.`, a.storeAudit,
			&cli.IntFlag{Name: "one-in", Usage: "read one `N`th of the content, another one each time"},
			&cli.BoolFlag{Name: "repair", Usage: "heal what parity, other copies or --from can give back"},
			&cli.BoolFlag{Name: "relist", Usage: "first make the listings anew from the content files' own"},
			&cli.StringFlag{Name: "from", Usage: "a mirror of it, a `STORE`, to heal from"}),
		a.command("", "mirror", "FROM TO", "copy what TO does not have yet of FROM, checking each object", `TO is then a full store, opened by the same keys. It can be ended at any time and
begun again. What was retired in FROM stays in TO.`, a.storeMirror,
			&cli.StringSliceFlag{Name: "cluster", Usage: "only this `CLUSTER`; may be repeated"},
			&cli.StringFlag{Name: "since", Usage: "only points younger than this, such as 30d"}),
		a.command("", "reclaim", "STORE", "give back the room of what no point needs", `In two phases: what no point needs is marked, and removed by a later reclaim when
the grace time is over and all who were writing then have ended. It can run
beside anything else.`, a.storeReclaim,
			&cli.BoolFlag{Name: "preview", Usage: "change nothing"},
			&cli.BoolFlag{Name: "accept-missing", Usage: "give up points that are missing though something names them; without this nothing is removed while there are any"},
			&cli.StringFlag{Name: "grace", Value: "24h", Usage: "how long marked content stays"}),
		a.keysCommands(),
	}}
}

// open opens a configured store, by its argument or the only one.
func (a *app) open(ctx context.Context, c *cli.Command, name string) (*store.Store, blob.Backend, string, error) {
	b, name, err := a.backend(ctx, c, name)
	if err != nil {
		return nil, nil, "", err
	}
	s, err := a.openAt(ctx, b, name)
	return s, b, name, err
}

func (a *app) openAt(ctx context.Context, b blob.Backend, name string) (*store.Store, error) {
	s, err := openStore(ctx, a.cfg, b, name, nil)
	if err == nil {
		a.opened = append(a.opened, s)
	}
	return s, err
}

// openStore opens a store as it is configured; fit, where not nil, changes how.
func openStore(ctx context.Context, cfg *config.Config, b blob.Backend, name string, fit func(*store.Options)) (*store.Store, error) {
	secret, kerr := cfg.Key(ctx, name)
	if kerr != nil && !errors.Is(kerr, fs.ErrNotExist) {
		return nil, usageError{kerr}
	}
	var err error
	o := store.Options{CacheBytes: int(cfg.Limits.Memory) / 8, WriteBytes: int(cfg.Limits.Memory) * 3 / 8, Temp: cfg.Limits.Temp}
	if fit != nil {
		fit(&o)
	}
	if secret != "" {
		if o.Unlock, err = store.ParseSecret(secret); err != nil {
			return nil, usage("%s: stores.%s.key: %v", cfg.Path, name, err)
		}
	}
	s, err := store.Open(ctx, b, o)
	switch {
	case errors.Is(err, store.ErrNoStore):
		return nil, fmt.Errorf("store %s: %w; make one with: dexamen store create %s", name, err, name)
	case errors.Is(err, store.ErrNoKey) && kerr != nil:
		return nil, usageError{fmt.Errorf("%w; without its key nothing can be read", kerr)}
	case errors.Is(err, store.ErrNoKey):
		return nil, fmt.Errorf("store %s: %w: say where it is with stores.%s.key in %s", name, err, name, cfg.Path)
	case err != nil:
		return nil, fmt.Errorf("store %s: %w", name, err)
	}
	return s, nil
}

func (a *app) storeCreate(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	b, name, err := a.backend(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	conf := a.cfg.Stores[name]
	o := store.CreateOptions{Tool: "dexamen " + Version, Plain: c.Bool("plain"), Parity: conf.Parity, ImmutableFor: time.Duration(conf.ImmutableFor)}
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
		_, err := store.CheckPlace(ctx, b, 4<<10)
		if errors.Is(err, store.ErrReplaced) {
			// Nothing is safe in a place where an object can be replaced, but
			// for what makes sure of it by itself.
			s3.UseClaims()
			o.Claims = true
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
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"store": name, "location": b.String(), "id": d.ID, "format": d.Format, "encrypted": !o.Plain, "parity": d.Parity, "immutable_for": d.ImmutableFor, "claims": d.Claims, "key_file": made})
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
			sc.Line("  in a folder this stops mistakes, not somebody who may write there and means to; a bucket with object lock does")
		}
	}
	if d.Claims {
		sc.Line("  this place does not heed conditions: objects are made by claims (docs/format.md), which takes more requests")
	}
	return nil
}

func (a *app) storeProbe(ctx context.Context, c *cli.Command) error {
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
		return a.screen.Encode(map[string]any{"store": name, "location": b.String(), "encrypted": s.Encrypted(), "write_only": s.WriteOnly(), "probes": rows})
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

func (a *app) storeInspect(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 1); err != nil {
		return err
	}
	s, b, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	u, err := s.Usage(ctx)
	if err != nil {
		return err
	}
	shares, dead, bad, err := s.Shares(ctx)
	if err != nil {
		return err
	}
	audit, err := s.LastScrub(ctx)
	if err != nil && !errors.Is(err, store.ErrDamaged) {
		return err
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"store": name, "location": b.String(), "id": s.ID, "format": s.Format, "created": s.Created, "encrypted": s.Encrypted(), "parity": s.Parity, "immutable_for": s.ImmutableFor,
			"usage": u, "clusters": shares, "reclaimable": dead, "scrub": audit})
	}
	a.showStore(name, s, u, shares, dead, audit)
	for _, e := range bad {
		a.screen.Line("  %s", a.screen.Loss(e.Error()))
	}
	if len(bad) > 0 {
		return fmt.Errorf("%w: %s cannot be read; store scrub says what that means", run.ErrIncomplete, view.Plural(int64(len(bad)), "object"))
	}
	return nil
}

func (a *app) showStore(name string, s *store.Store, u store.Usage, shares []*store.Share, dead int64, audit *store.ScrubReport) {
	sc := a.screen
	protection := "not encrypted"
	if s.Encrypted() {
		protection = "encrypted"
	}
	if s.Parity != "" {
		protection += ", parity " + s.Parity
	}
	if s.ImmutableFor > 0 {
		protection += ", objects locked for " + view.Duration(time.Duration(s.ImmutableFor)*time.Second)
	}
	sc.Line("%s  %s, format %d, made %s, %s", sc.Accent(name), s.Location(), s.Format, view.Time(s.Created), protection)
	sc.Line("")
	t := sc.Table("holds", ">objects", ">stored")
	var total int64
	objects := 0
	for _, k := range []struct{ kind, what string }{{"content", "content"}, {"listings", "listings of content"}, {"points", "points"}, {"journal", "log segments"}, {"parity", "parity"}} {
		if k.kind != "parity" || s.Parity != "" {
			t.Row(k.what, view.Count(int64(u.Objects[k.kind])), view.Bytes(u.Bytes[k.kind]))
		}
		total, objects = total+u.Bytes[k.kind], objects+u.Objects[k.kind]
	}
	t.Row("together", view.Count(int64(objects)), view.Bytes(total))
	t.Print(2)
	sc.Line("")
	t = sc.Table("cluster", ">points", "oldest", "newest", ">newest size", ">total size", ">stored", ">log", ">growth in 7 days")
	for _, r := range shares {
		t.Row(r.Cluster, r.Points, view.Time(r.Oldest), view.Time(r.Newest), view.Bytes(r.Latest), view.Bytes(r.Logical), view.Bytes(r.Stored), view.Bytes(r.Log), "+"+view.Bytes(r.Grown))
	}
	t.Print(2)
	sc.Line("")
	if s.WriteOnly() {
		sc.Line("  the key configured can write only: what content takes is not known")
	} else {
		for _, r := range shares {
			sc.Line("  %s: keeping the same content once saves %s, compression and patches %s", r.Cluster, view.Bytes(r.Logical-r.Unique), view.Bytes(r.Unique-r.Stored))
		}
		if dead > 0 {
			sc.Line("  no point needs %s; give it back with: dexamen store reclaim %s", view.Bytes(dead), name)
		}
	}
	switch {
	case audit == nil:
		sc.Line("  never scrubbed; do it with: dexamen store scrub %s", name)
	case audit.Sound():
		sc.Line("  last scrubbed %s (part %d of %d): sound", view.Time(audit.Created), audit.Part+1, audit.Parts)
	default:
		sc.Line("  last scrubbed %s: %s", view.Time(audit.Created), sc.Loss("damage was found"))
	}
}

// objectProgress shows how many objects a stage has gone through.
func (a *app) objectProgress(stage string) (p *view.Progress, emit func(object string, objects int, bytes int64)) {
	p = a.screen.NewProgress()
	p.Event(run.Event{Kind: run.Step, Text: stage})
	return p, func(_ string, n int, size int64) {
		p.Event(run.Event{Kind: run.Progress, Records: int64(n), Unit: "objects", Bytes: size})
	}
}

func (a *app) storeMirror(ctx context.Context, c *cli.Command) error {
	if err := args(c, 2, 2); err != nil {
		return err
	}
	s, b, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	to, toName, err := a.backend(ctx, c, c.Args().Get(1))
	if err != nil {
		return err
	}
	if toName == name || to.String() == b.String() {
		return usage("%s is %s: a mirror lies elsewhere", toName, name)
	}
	o := store.MirrorOptions{Clusters: c.StringSlice("cluster"), Parallel: a.cfg.Limits.ReadersPerCluster}
	if text := c.String("since"); text != "" {
		d, err := address.ParseDistance(text)
		if err != nil {
			return usage("--since: %v", err)
		}
		o.Since = time.Now().Add(-d)
	}
	p, emit := a.objectProgress("copying from " + b.String() + " to " + to.String())
	o.Emit = emit
	m, err := s.Mirror(ctx, to, o)
	p.Done()
	if errors.Is(err, store.ErrOtherStore) {
		err = fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{"from": name, "to": toName, "result": m}); err != nil {
			return err
		}
	} else {
		a.screen.Line("%s holds %s of %s: %s copied (%s), %s there already", a.screen.Accent(toName), view.Plural(int64(m.Points), "point"), name,
			view.Plural(int64(m.Copied), "object"), view.Bytes(m.Bytes), view.Count(int64(m.There)))
		for _, d := range m.Damaged {
			a.screen.Line("  %s", a.screen.Loss(d+" is damaged and was not copied"))
		}
	}
	if len(m.Damaged) > 0 {
		return fmt.Errorf("%w: %s of %s not copied; store scrub %s says what that means", run.ErrIncomplete, view.Plural(int64(len(m.Damaged)), "object"), name, name)
	}
	return nil
}

func (a *app) storeReclaim(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	grace, err := address.ParseDistance(c.String("grace"))
	if err != nil {
		return usage("--grace: %v", err)
	}
	s, _, name, err := a.open(ctx, c, c.Args().First())
	if err != nil {
		return err
	}
	p := a.screen.NewProgress()
	r, err := s.Reclaim(ctx, store.ReclaimOptions{Grace: grace, Preview: c.Bool("preview"), AcceptMissing: c.Bool("accept-missing"), Emit: func(text string) { p.Event(run.Event{Kind: run.Step, Text: text}) }})
	p.Done()
	if errors.Is(err, store.ErrHeld) {
		err = fmt.Errorf("%w: %w", run.ErrRefused, err)
	}
	if errors.Is(err, store.ErrUnexplained) {
		return fmt.Errorf("%w: store %s: %w; look with: dexamen store scrub %s; a mirror may have what is missing (--repair --from); --accept-missing gives it up", run.ErrRefused, name, err, name)
	}
	if err != nil {
		return fmt.Errorf("store %s: %w", name, err)
	}
	if a.screen.JSON {
		return a.screen.Encode(map[string]any{"store": name, "preview": c.Bool("preview"), "result": r})
	}
	sc := a.screen
	sc.Line("%s has %s of content, %s; no point needs %d of them, %s", sc.Accent(name), view.Plural(int64(r.Files), "pack"), view.Bytes(r.Bytes), r.Dead, view.Bytes(r.DeadBytes))
	if c.Bool("preview") {
		return nil
	}
	if r.PendingDelete > 0 {
		sc.Line("  marked, to be removed after %s: %s", view.Duration(grace), view.Plural(int64(r.PendingDelete), "pack"))
	}
	if r.CopiedOut > 0 {
		sc.Line("  copied out of packs that are mostly not needed: %s", view.Bytes(r.CopiedOut))
	}
	sc.Line("  removed: %s, %s; and %s that had been left behind", view.Plural(int64(r.Removed), "pack"), view.Bytes(r.Freed), view.Plural(int64(r.Leftovers), "object"))
	if r.Withdrawn > 0 {
		sc.Line("  no longer marked, as points need them by now: %s", view.Plural(int64(r.Withdrawn), "pack"))
	}
	if r.Locked > 0 {
		sc.Line("  locked for now: %s", view.Plural(int64(r.Locked), "pack"))
	}
	if n := len(r.Waiting); n > 0 {
		sc.Line("  waiting for %d that were writing when content was marked to end", n)
	}
	return nil
}
