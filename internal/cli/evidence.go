package cli

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/address"
	"dexamen/internal/core/store"
	"dexamen/internal/evidence"
	"dexamen/internal/pin"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

func (a *app) evidenceCommands() *cli.Command {
	return &cli.Command{Name: "evidence",
		Usage:    "signed statements of what drills, restores, verifications and scrubs found",
		Category: proof, OnUsageError: onUsage,
		Commands: []*cli.Command{
			a.command("", "list", "[CLUSTER]", "what was said, the newest last", "", a.evidenceList,
				&cli.StringFlag{Name: "last", Usage: "only of the last `TIME`, such as 30d"}),
			a.command("", "show", "NUMBER", "one statement of this installation, whole", "", a.evidenceShow,
				&cli.StringFlag{Name: "key", Usage: "of another installation: the `BEGINNING` of its key's name"}),
			a.command("", "export", "", "write all statements into a file that can be checked without the store",
				`The file holds a line a statement, and an end that says how many there are: a JSON Web Signature
each (RFC 7515, Ed25519). docs/reference/evidence.md says how to check it without dexamen.`, a.evidenceExport,
				&cli.StringFlag{Name: "to",
					Usage:    "write this `FILE`, which must not be there; - is the standard output",
					Required: true}),
			a.command("", "check", "FILE", "find what was changed in a file of evidence, taken out or put in",
				`Needs neither the store nor its key. Whose the statements are tells the public key: of this
installation it is known; of others name the file that their dexamen evidence key printed.

Exit codes: 0 all is as it was signed, by keys that are known; 3 something is wrong; 4 all is as it
was signed, but by a key that is not known.`, a.evidenceCheck,
				&cli.StringSliceFlag{Name: "key", Usage: "the public key in this `FILE` is trusted; may be repeated"}),
			a.command("", "key", "", "print the public key of this installation", "", a.evidenceKey),
		}}
}

// evidenceFolder is where this installation keeps its key, and notes how much it has said; empty
// where this host has no place for it.
func evidenceFolder() string {
	state := pin.StateFolder()
	if state == "" {
		return ""
	}
	return filepath.Join(state, "evidence")
}

// book opens the installation's book of statements; nil where this host has no place for a key, and none
// is configured.
func (a *app) book(ctx context.Context, cfg *config.Config) (*evidence.Book, error) {
	b := &evidence.Book{Folder: evidenceFolder()}
	text, err := cfg.EvidenceKey(ctx)
	switch {
	case err != nil:
		return nil, err
	case text != "":
		b.Key, err = evidence.ParseKey([]byte(text))
	case b.Folder == "":
		return nil, nil
	default:
		b.Key, err = evidence.HostKey(b.Folder)
		if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.ENOTDIR) || errors.Is(err, syscall.EROFS) {
			return nil, nil
		}
	}
	if err != nil {
		return nil, err
	}
	return b, nil
}

// attest returns what leaves evidence of runs in a store.
func (a *app) attest(cfg *config.Config, s *store.Store) func(context.Context, *store.Run) error {
	return func(ctx context.Context, r *store.Run) error {
		if !slices.Contains(evidence.Kinds, r.Kind) {
			return nil
		}
		b, err := a.book(ctx, cfg)
		if err != nil {
			return err
		}
		if b == nil && r.Kind != store.RunDrill {
			return nil
		}
		if b == nil {
			return fmt.Errorf("this host has no place for a key; name one under evidence: key: in %s", cfg.Path)
		}
		said, err := b.Append(ctx, s, evidence.Of(r))
		a.attested.Store(said)
		return err
	}
}

// statements reads what lies in the stores; of several that are copies of one the one that has most. What is
// wrong is among the faults, and a store that cannot be read is said at once.
func (a *app) statements(ctx context.Context, c *cli.Command) (*evidence.Checked, []string, error) {
	cfg, err := a.config(c)
	if err != nil {
		return nil, nil, err
	}
	names := config.Names(cfg.Stores)
	if s := c.String("store"); s != "" {
		names = []string{s}
	}
	of := map[string][]string{} // by the stores' ids
	var ids []string
	var missing []evidence.Fault
	var errs []error
	for _, name := range names {
		id, lines, err := a.linesOf(ctx, c, name)
		if errors.Is(err, evidence.ErrMissing) {
			missing = append(missing, evidence.Fault{What: "store " + name + ": " + err.Error()})
		} else if errors.Is(err, store.ErrNoStore) && len(names) > 1 {
			continue // it is configured and not made yet: nothing was said there
		} else if err != nil {
			errs = append(errs, err)
			continue
		}
		if _, seen := of[id]; !seen {
			ids = append(ids, id)
		}
		if len(lines) >= len(of[id]) {
			of[id] = lines
		}
	}
	if len(errs) == len(names) {
		return nil, nil, errors.Join(errs...)
	}
	for _, err := range errs {
		a.screen.Note("! %v", err)
	}
	var all []string
	for _, id := range ids {
		all = append(all, of[id]...)
	}
	got := evidence.CheckLines(all, a.trusted(ctx, c))
	got.Faults = append(got.Faults, missing...)
	return got, all, nil
}

// linesOf reads the statements in a store, and its id. evidence.ErrMissing is returned beside them where
// this installation has written more.
func (a *app) linesOf(ctx context.Context, c *cli.Command, name string) (id string, lines []string, err error) {
	e, progress, err := a.openRunnerOf(ctx, c, name, "")
	if err != nil {
		return "", nil, err
	}
	defer progress.Done()
	lines, bad, err := evidence.Lines(ctx, e.Store)
	if err != nil {
		return "", nil, err
	}
	for _, b := range bad {
		a.screen.Note("! store %s: %v", name, b)
	}
	if len(a.trusted(ctx, c)) == 0 {
		return e.Store.ID, lines, nil
	}
	b, err := a.book(ctx, a.cfg)
	if err != nil || b == nil {
		return e.Store.ID, lines, err
	}
	return e.Store.ID, lines, b.Missing(ctx, e.Store)
}

// trusted returns the key of this installation, where it has one.
func (a *app) trusted(ctx context.Context, c *cli.Command) []ed25519.PublicKey {
	cfg := &config.Config{}
	if found, err := a.config(c); err == nil {
		cfg = found
	}
	if cfg.Evidence.Key == nil {
		if _, err := os.Stat(filepath.Join(evidenceFolder(), "key.pem")); err != nil {
			return nil // looking makes none
		}
	}
	b, err := a.book(ctx, cfg)
	if err != nil || b == nil {
		return nil
	}
	return []ed25519.PublicKey{b.Key.Public().(ed25519.PublicKey)}
}

func (a *app) evidenceList(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 1); err != nil {
		return err
	}
	since := time.Time{}
	if text := c.String("last"); text != "" {
		d, err := address.ParseDistance(text)
		if err != nil || d <= 0 {
			return usage("--last %s: write a time such as 30d", text)
		}
		since = time.Now().Add(-d)
	}
	got, _, err := a.statements(ctx, c)
	if err != nil {
		return err
	}
	list := slices.DeleteFunc(got.Statements, func(s *evidence.Statement) bool {
		return c.Args().Present() && s.Cluster != c.Args().First() || s.Finished.Before(since)
	})
	slices.SortStableFunc(list, func(x, y *evidence.Statement) int { return x.Finished.Compare(y.Finished) })
	if a.screen.JSON {
		if list == nil {
			list = []*evidence.Statement{}
		}
		if err := a.screen.Encode(map[string]any{"statements": list, "chains": got.Chains,
			"faults": got.Faults}); err != nil {
			return err
		}
		return broken(got)
	}
	s := a.screen
	if len(list) == 0 {
		s.Line("no evidence yet: drills, restores, verifications and scrubs leave it")
		return broken(got)
	}
	t := s.Table(">number", "ended", "kind", "cluster", "moment", "onto", "result", ">took")
	for _, x := range list {
		at := "-"
		if !x.Moment.IsZero() {
			at = view.Time(x.Moment)
		}
		result := x.Result
		if result != store.RunDone {
			result = s.Loss(result)
		}
		t.Row(fmt.Sprint(x.Number), view.Time(x.Finished), x.Kind, s.Accent(cmp.Or(x.Cluster, "-")), at,
			cmp.Or(x.Target, served(x)), result, view.Duration(x.Took().D()))
	}
	t.Print(0)
	a.showFaults(got)
	return broken(got)
}

func served(x *evidence.Statement) string {
	if x.Drill != nil && x.Drill.Served {
		return "served"
	}
	return "-"
}

// broken returns run.ErrDiffers where evidence is not as it was signed, or some is missing.
func broken(got *evidence.Checked) error {
	if got.Sound() {
		return nil
	}
	f := got.Faults[0]
	at := ""
	if f.Line > 0 {
		at = fmt.Sprintf("line %d: ", f.Line)
	}
	return fmt.Errorf("what was signed and what is there %w, in %s: %s%s", run.ErrDiffers,
		view.Plural(int64(len(got.Faults)), "place"), at, f.What)
}

func (a *app) showFaults(got *evidence.Checked) {
	const most = 10
	for i, f := range got.Faults {
		if i == most {
			a.screen.Line("  … and %d more", len(got.Faults)-most)
			break
		}
		at := "missing:"
		if f.Line > 0 {
			at = fmt.Sprintf("line %d:", f.Line)
		}
		a.screen.Line("  %s %s", a.screen.Loss(at), f.What)
	}
}

func (a *app) evidenceShow(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	var n int64
	if _, err := fmt.Sscanf(c.Args().First()+"\n", "%d\n", &n); err != nil || n < 1 {
		return usage("evidence show %s: write the number of a statement, as evidence list has it", c.Args().First())
	}
	got, _, err := a.statements(ctx, c)
	if err != nil {
		return err
	}
	key := c.String("key")
	for _, k := range a.trusted(ctx, c) {
		key = cmp.Or(key, evidence.Thumbprint(k))
	}
	var found []*evidence.Statement
	for _, x := range got.Statements {
		if x.Number == n && strings.HasPrefix(x.Key, key) {
			found = append(found, x)
		}
	}
	if len(found) != 1 {
		return usage("there are %d statements of number %d; see: dexamen evidence list, and --key", len(found), n)
	}
	if a.screen.JSON {
		return a.screen.Encode(found[0])
	}
	a.showStatement(found[0])
	return broken(got)
}

func (a *app) showStatement(x *evidence.Statement) {
	s := a.screen
	s.Line("statement %d in store %s", x.Number, x.Store)
	line := func(name, value string) {
		if value != "" {
			s.Line("  %-10s %s", name, value)
		}
	}
	line("signed by", x.Key)
	line("run", x.Run+" ("+x.Kind+", "+x.Result+")")
	line("error", x.Error)
	line("cluster", x.Cluster)
	line("policy", x.Policy)
	if !x.Moment.IsZero() {
		line("moment", view.Time(x.Moment)+", point "+x.Point)
	}
	line("onto", cmp.Or(x.Target, served(x)))
	line("time", view.Time(x.Started)+", "+view.Duration(x.Took().D()))
	line("by", fmt.Sprintf("%s on %s, %s", x.User, x.Host, x.Tool))
	if d := x.Drill; d != nil {
		line("drill", fmt.Sprintf("first answer after %s, all there after %s, newest moment %s old",
			view.Duration(d.FirstAnswer.D()), view.Duration(d.Recovery.D()), view.Duration(d.Age.D())))
		for _, ch := range d.Checks {
			line(map[bool]string{true: "passed", false: s.Loss("FAILED")}[ch.Passed], ch.What+"  "+ch.Found)
		}
	}
	for _, v := range x.Verdicts {
		line(v.Found, v.Of+"  "+v.Detail)
	}
	if len(x.Namespaces) > 0 {
		t := s.Table("namespace", ">records", ">size", "root")
		for _, n := range x.Namespaces {
			t.Row(n.To, view.Count(n.Records), view.Bytes(n.Bytes), n.Root.String())
		}
		t.Print(2)
	}
}

func (a *app) evidenceExport(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	got, lines, err := a.statements(ctx, c)
	if err != nil {
		return err
	}
	if len(lines) == 0 {
		return fmt.Errorf("the store holds no evidence yet: drills, restores, verifications and scrubs leave it")
	}
	b, err := a.book(ctx, a.cfg)
	if err != nil {
		return err
	}
	if b == nil {
		return fmt.Errorf(
			"this host has no place for a key to sign the end of the file; name one under evidence: key: in %s",
			a.cfg.Path)
	}
	write := func(w io.Writer) error {
		return evidence.Write(w, b.Key, lines, got.Statements[0].Store, time.Now())
	}
	name := c.String("to")
	if name == "-" {
		if err := write(a.screen.Out); err != nil {
			return err
		}
		return broken(got)
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return usage("--to: %v", err)
	}
	if err := write(f); err != nil {
		_ = f.Close()
		_ = os.Remove(name)
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	a.screen.Line("%s: %s; check it with: dexamen evidence check %s", name,
		view.Plural(int64(len(lines)), "statement"), name)
	return broken(got)
}

func (a *app) evidenceCheck(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	trusted := a.trusted(ctx, c)
	for _, file := range c.StringSlice("key") {
		text, err := os.ReadFile(file)
		if err != nil {
			return usage("--key: %v", err)
		}
		keys, err := evidence.ParsePublic(text)
		if err != nil {
			return usage("--key %s: %v", file, err)
		}
		trusted = append(trusted, keys...)
	}
	in := io.Reader(a.in)
	if name := c.Args().First(); name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return usage("%v", err)
		}
		defer func() { _ = f.Close() }()
		in = f
	}
	got, err := evidence.Check(in, trusted)
	if err != nil {
		return err
	}
	unknown := got.Unknown()
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{"sound": got.Sound(), "unknown_keys": unknown, "chains": got.Chains,
			"faults": got.Faults, "statements": got.Statements, "written": got.Written}); err != nil {
			return err
		}
	} else {
		s := a.screen
		for _, ch := range got.Chains {
			whose := "a key that is known"
			if !ch.Known {
				whose = s.Loss("a key that is not known")
			}
			s.Line("store %s: %s, %s to %s", ch.Store, view.Plural(ch.Statements, "statement"), view.Time(ch.First),
				view.Time(ch.Last))
			s.Line("  signed with %s: %s", whose, ch.Key)
		}
		a.showFaults(got)
	}
	if err := broken(got); err != nil {
		return err
	}
	if len(unknown) > 0 {
		return fmt.Errorf("%w: all is as it was signed, but by key %s, whose owner is not known; let its owner "+
			"print it with dexamen evidence key, and say --key FILE", run.ErrIncomplete, unknown[0])
	}
	if !a.screen.JSON {
		a.screen.Line("nothing was changed, and nothing is missing up to %s", view.Time(got.Written))
	}
	return nil
}

func (a *app) evidenceKey(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	b, err := a.book(ctx, cfg)
	if err != nil {
		return err
	}
	if b == nil {
		return fmt.Errorf("this host has no place for a key; name one under evidence: key: in %s", cfg.Path)
	}
	public := b.Key.Public().(ed25519.PublicKey)
	if a.screen.JSON {
		return a.screen.Encode(map[string]string{"key": evidence.Thumbprint(public),
			"pem": evidence.PublicText(public)})
	}
	a.screen.Note("key %s", evidence.Thumbprint(public))
	_, err = fmt.Fprint(a.screen.Out, evidence.PublicText(public))
	return err
}
