package document

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"

	"dexamen/internal/engine"
)

var _ engine.FileQuiescer = (*cluster)(nil)

// lockedFiles are the members whose files are locked.
type lockedFiles struct {
	Members []string `json:"members"`
}

// QuiescibleFiles implements [engine.FileQuiescer]: fsync with a lock keeps a member from
// writing to its files.
func (c *cluster) QuiescibleFiles(ctx context.Context, members []string) (engine.Hold, error) {
	var d lockedFiles
	for _, s := range c.sets {
		for _, addr := range s.hosts {
			if len(members) > 0 && !slices.Contains(members, addr) {
				continue
			}
			m, _, err := s.member(ctx, addr)
			if err != nil {
				return engine.Hold{}, err
			}
			if m.Role != "arbiter" {
				d.Members = append(d.Members, addr)
			}
		}
	}
	slices.Sort(d.Members)
	for _, m := range members {
		if !slices.Contains(d.Members, m) {
			return engine.Hold{}, fmt.Errorf("cluster %s has no member %s that holds data", c.t.Name, m)
		}
	}
	detail, err := json.Marshal(d)
	return engine.Hold{What: "writing to the files of " + strings.Join(d.Members, ", "), Detail: detail,
		Exact: true}, err
}

// lockedBy returns the members that a hold is of; none where it is of the balancer.
func lockedBy(h engine.Hold) ([]string, error) {
	if len(h.Detail) == 0 {
		return nil, nil
	}
	var d lockedFiles
	err := json.Unmarshal(h.Detail, &d)
	return d.Members, err
}

// eachLocked calls fn for each member of a hold with what speaks to it.
func (c *cluster) eachLocked(members []string, fn func(s *set, addr string) error) error {
	var errs []error
	for _, addr := range members {
		found := false
		for _, s := range c.sets {
			if slices.Contains(s.hosts, addr) {
				found = true
				if err := fn(s, addr); err != nil {
					errs = append(errs, fmt.Errorf("member %s: %w", addr, err))
				}
			}
		}
		if !found {
			errs = append(errs, fmt.Errorf("member %s is not in the cluster any more", addr))
		}
	}
	return errors.Join(errs...)
}

func (c *cluster) lockFiles(ctx context.Context, members []string) error {
	return c.eachLocked(members, func(s *set, addr string) error {
		_, err := s.askFor(ctx, logTime, addr, "admin", bson.D{{Key: "fsync", Value: 1}, {Key: "lock", Value: true}})
		return err
	})
}

// notLocked is the code of the answer to unlocking what is not locked.
const notLocked = 20

func (c *cluster) unlockFiles(ctx context.Context, members []string) error {
	return c.eachLocked(members, func(s *set, addr string) error {
		_, err := s.ask(ctx, addr, "admin", bson.D{{Key: "fsyncUnlock", Value: 1}})
		var ce mongo.CommandError
		if errors.As(err, &ce) && ce.Code == notLocked {
			return nil
		}
		return err
	})
}

// StillHeld implements [engine.HoldChecker].
func (c *cluster) StillHeld(ctx context.Context, h engine.Hold) error {
	members, err := lockedBy(h)
	if err != nil {
		return err
	}
	return c.eachLocked(members, func(s *set, addr string) error {
		ans, err := s.ask(ctx, addr, "admin", bson.D{{Key: "currentOp", Value: 1}})
		if err != nil {
			return fmt.Errorf("%w: %w", engine.ErrHoldLost, err)
		}
		if on, _ := ans.Lookup("fsyncLock").BooleanOK(); !on {
			return fmt.Errorf("%w: its files are not locked any more", engine.ErrHoldLost)
		}
		return nil
	})
}
