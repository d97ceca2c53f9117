package tree

import (
	"context"
	"runtime"
	"sync"
)

// ahead reads the leaves that a walk comes to next while it is busy with one: a store
// fetches, decrypts, decompresses and checks them on other processors.
type ahead struct {
	src    Source
	ctx    context.Context
	cancel context.CancelFunc
	most   int
	queue  []*aheadNode
	todo   chan *aheadNode
	reads  sync.WaitGroup
}

type aheadNode struct {
	hash Hash
	done chan struct{} // closed when node or err is there
	node []byte
	err  error
}

// mostAhead bounds the leaves that are held for one walk.
const mostAhead = 4

func newAhead(ctx context.Context, src Source) *ahead {
	a := &ahead{src: src, most: min(mostAhead, max(2, runtime.GOMAXPROCS(0)))}
	a.ctx, a.cancel = context.WithCancel(ctx)
	return a
}

// node returns a leaf, and has those read that follow it in a cursor that stands after it.
func (a *ahead) node(ctx context.Context, h Hash, after []cursorLevel) ([]byte, error) {
	var mine *aheadNode
	if len(a.queue) > 0 && a.queue[0].hash == h {
		mine = a.queue[0]
		a.queue = a.queue[1:]
	} else if len(a.queue) > 0 { // not as was thought
		a.queue = nil
	}
	if n := len(after); n > 0 && after[n-1].level == 0 {
		next := after[n-1].children
		for len(a.queue) < min(a.most, len(next)) {
			x := &aheadNode{hash: next[len(a.queue)].hash, done: make(chan struct{})}
			a.queue = append(a.queue, x)
			a.read(x)
		}
	}
	if mine == nil {
		return a.src.Node(ctx, h)
	}
	<-mine.done
	return mine.node, mine.err
}

// read has a leaf read. Those who read stay, as long as the walk goes on: their stacks
// would grow anew for each leaf.
func (a *ahead) read(x *aheadNode) {
	if a.todo == nil {
		a.todo = make(chan *aheadNode, a.most)
		for range a.most {
			a.reads.Go(func() {
				for x := range a.todo {
					x.node, x.err = a.src.Node(a.ctx, x.hash)
					close(x.done)
				}
			})
		}
	}
	a.todo <- x
}

// end waits for what is being read: nothing uses the source afterwards.
func (a *ahead) end() {
	a.cancel()
	if a.todo != nil {
		close(a.todo)
	}
	a.reads.Wait()
}
