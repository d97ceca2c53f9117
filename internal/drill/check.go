package drill

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"dexamen/internal/command"
	"dexamen/internal/core/address"
	"dexamen/internal/core/condition"
	"dexamen/internal/core/record"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/run"
)

// Check is something that is asked of what came back: one of That, Find and Run is set.
type Check struct {
	// That is an expression over what came back (the Common Expression Language): counts by
	// namespace, and in seconds first_answer, recovery and age.
	That string
	// Find is a namespace in which at least so many records (one when zero) fit Where, if that is set.
	Find    string
	Where   string
	AtLeast int64
	// Run is a command that ends with 0 where all is right. It may take Timeout (10m when zero), and is
	// given the variables named by Environment besides those that say what came back.
	Run         []string
	Timeout     time.Duration
	Environment []string
}

const defaultTimeout = 10 * time.Minute

// String names the check.
func (c Check) String() string {
	switch {
	case c.That != "":
		return c.That
	case c.Find == "":
		return strings.Join(c.Run, " ")
	}
	s := "records of " + c.Find
	if c.Where != "" {
		s += " where " + c.Where
	}
	if c.AtLeast > 1 {
		s += fmt.Sprintf(", at least %d", c.AtLeast)
	}
	return s
}

// check makes the checks and notes what became of each. Its error is of what kept them from being made.
func check(ctx context.Context, e *run.Runner, r *store.Run, o Options, t *there) error {
	for _, c := range o.Checks {
		e.Emit(run.Step, "checking: %s", c)
		start := time.Now()
		found, err := c.ask(ctx, r, t)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		out := store.RunCheck{What: c.String(), Passed: err == nil, Found: found,
			Took: record.Seconds(time.Since(start).Truncate(time.Millisecond))}
		if err != nil {
			out.Found = e.Text(err)
		}
		r.Drill.Checks = append(r.Drill.Checks, out)
	}
	return nil
}

// ask makes a check. It returns what was found, or why it failed.
func (c Check) ask(ctx context.Context, r *store.Run, t *there) (string, error) {
	switch {
	case c.That != "":
		return "", c.evaluate(r, t)
	case c.Find != "":
		return c.find(ctx, t)
	}
	return c.run(ctx, r, t)
}

func (c Check) evaluate(r *store.Run, t *there) error {
	cond, err := condition.Compile(c.That)
	if err != nil {
		return err
	}
	d := r.Drill
	ok := cond.Fits(map[string]any{"counts": t.counts, "first_answer": d.FirstAnswer.D().Seconds(),
		"recovery": d.Recovery.D().Seconds(), "age": d.Age.D().Seconds()})
	if ok {
		return nil
	}
	if err := cond.Check(); err != nil {
		return err
	}
	return errors.New("it is not so" + t.mentioned(c.That))
}

// mentioned tells the counts of the namespaces that an expression names.
func (t *there) mentioned(text string) string {
	var out []string
	for name, n := range t.counts {
		if strings.Contains(text, name) {
			out = append(out, fmt.Sprintf("%s has %d", name, n))
		}
	}
	if len(out) == 0 {
		return ""
	}
	return ": " + strings.Join(out, ", ")
}

// errEnough ends a scan early.
var errEnough = errors.New("enough")

func (c Check) find(ctx context.Context, t *there) (string, error) {
	drv, err := engine.ForName(t.cluster.Engine())
	if err != nil {
		return "", err
	}
	ins, ok := drv.Model().(engine.Inspector)
	if !ok && c.Where != "" {
		return "", errors.New("records of clusters of this kind cannot be asked for")
	}
	var cond *condition.Condition
	if c.Where != "" {
		if cond, err = condition.Compile(c.Where); err != nil {
			return "", err
		}
	}
	now, err := t.cluster.Namespaces(ctx)
	if err != nil {
		return "", err
	}
	least, n, looked, known := max(1, c.AtLeast), int64(0), int64(0), false
	for _, ns := range now {
		if !address.Match(c.Find, ns.Name) || !ns.Kind.HasRecords() || n >= least {
			continue
		}
		known = true
		parts, err := t.cluster.Partitions(ctx, ns, 1)
		if err != nil {
			return "", err
		}
		for _, p := range parts {
			err := t.cluster.Scan(ctx, ns, p, func(r record.Record) error {
				looked++
				if cond != nil {
					fields, ok, err := ins.Fields(r.Value)
					if err != nil || !ok || !cond.Fits(fields) {
						return err
					}
				}
				if n++; n >= least {
					return errEnough
				}
				return nil
			})
			if err != nil && !errors.Is(err, errEnough) {
				return "", err
			}
			if n >= least {
				break
			}
		}
	}
	switch {
	case !known:
		return "", fmt.Errorf("no namespace %s came back", c.Find)
	case n >= least:
		return fmt.Sprintf("%d found", n), nil
	case cond != nil && cond.Check() != nil:
		return "", cond.Check()
	}
	return "", fmt.Errorf("%d found among %d records, and %d are needed", n, looked, least)
}

func (c Check) run(ctx context.Context, r *store.Run, t *there) (string, error) {
	limit := c.Timeout
	if limit <= 0 {
		limit = defaultTimeout
	}
	cctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	cmd := command.Command(cctx, c.Run)
	var out command.Tail
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.Env = append(command.Environment(c.Environment), "DEXAMEN_ADDRESS="+t.address, "DEXAMEN_USER="+t.user,
		"DEXAMEN_PASSWORD="+t.password, "DEXAMEN_CLUSTER="+r.Cluster, "DEXAMEN_TARGET="+r.Target,
		"DEXAMEN_POINT="+r.Point, "DEXAMEN_MOMENT="+r.To.UTC().Format(time.RFC3339Nano), "DEXAMEN_RUN="+r.ID)
	err := cmd.Run()
	said := out.Line()
	if t.password != "" {
		said = strings.ReplaceAll(said, t.password, "…") // it is kept for long, and read by others
	}
	switch {
	case cctx.Err() == context.DeadlineExceeded && ctx.Err() == nil:
		return "", fmt.Errorf("it was still running after %s and was ended", limit)
	case err != nil && said != "":
		return "", fmt.Errorf("%w: %s", err, said)
	case err != nil:
		return "", err
	}
	return said, nil
}
