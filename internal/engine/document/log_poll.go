package document

import (
	"context"
	"fmt"
	"sort"
	"time"

	"dexamen/internal/core/wait"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/core/record"
)

// pollEvery is how long a log that is asked again and again is left alone.
const pollEvery = 500 * time.Millisecond

// poll follows the log of a server that does not tell what is committed. It asks
// for what came since, again and again: a cursor that waits at the log's end is
// not to be trusted there, one was seen to pass entries by when the server was
// slow. Only entries that had settled when they were asked for are taken, in the
// order of their positions, which need not be the order they are kept in.
func (f *follow) poll(ctx context.Context, addr string, cl *mongo.Client) error {
	for {
		if err := f.pollOnce(ctx, addr, cl); err != nil {
			return err
		}
		if err := f.flush(true); err != nil {
			return err
		}
		if err := wait.For(ctx, pollEvery); err != nil {
			return err
		}
		if err := f.c.answers(ctx, addr); err != nil {
			return err
		}
	}
}

func (f *follow) pollOnce(ctx context.Context, addr string, cl *mongo.Client) error {
	filter := bson.D{}
	if f.at.Position != "" {
		filter = bson.D{{Key: "ts", Value: bson.D{{Key: "$gte", Value: timestampOf(f.at.Position)}}}}
	}
	settle, now := f.c.settle(ctx)
	cur, err := majorityLog(cl).Find(ctx, filter, options.Find().SetBatchSize(logBatch))
	if err != nil {
		return explain(addr, err)
	}
	defer cur.Close(context.WithoutCancel(ctx))
	var early arrivals
	met := false // the entry that was reached
	take := func(a arrival) error {
		if a.mark.Position <= f.at.Position {
			return f.shared(a.mark)
		}
		if err := f.take(ctx, addr, cl, a.mark, a.entry); err != nil {
			return err
		}
		f.reached(a.mark)
		if f.size >= batchMax {
			return f.flush(false)
		}
		return nil
	}
	proven := f.at.Position == ""
	prove := func() error {
		if proven {
			return nil
		}
		proven = true
		return f.prove(ctx, addr, cl, "")
	}
	for cur.Next(ctx) {
		m, err := markOf(cur.Current)
		if err != nil {
			return callbackError{fmt.Errorf("cluster %s: member %s: %w", f.c.t.Name, addr, err)}
		}
		if m.Position == f.at.Position {
			if met {
				return f.shared(m)
			}
			proven, met = true, true
			f.reached(m) // its time may not be known yet
		}
		if m.Position <= f.at.Position || m.Wall.After(now.Add(-settle)) {
			continue
		}
		early.add(m, cur.Current)
		for early[0].mark.Wall.Before(m.Wall.Add(-settle)) {
			if err := prove(); err != nil {
				return err
			}
			if err := take(early.first()); err != nil {
				return err
			}
		}
	}
	if err := cur.Err(); err != nil {
		return explain(addr, err)
	}
	if err := prove(); err != nil {
		return err
	}
	for len(early) > 0 {
		if err := take(early.first()); err != nil {
			return err
		}
	}
	return nil
}

// arrival is an entry that waits for those before it.
type arrival struct {
	mark  record.Mark
	entry bson.Raw
}

// arrivals are in order of their positions.
type arrivals []arrival

// add keeps a copy of an entry.
func (a *arrivals) add(m record.Mark, entry bson.Raw) {
	i := sort.Search(len(*a), func(i int) bool { return (*a)[i].mark.Position > m.Position })
	*a = append(*a, arrival{})
	copy((*a)[i+1:], (*a)[i:])
	(*a)[i] = arrival{m, append(bson.Raw(nil), entry...)}
}

func (a *arrivals) first() arrival {
	f := (*a)[0]
	*a = (*a)[1:]
	return f
}
