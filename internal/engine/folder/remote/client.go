package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/rpc"
	"sync"
	"sync/atomic"
	"time"

	"dexamen/internal/engine/folder/files"
)

// Client implements [files.Host] by what a [Serve] at the other end does.
type Client struct {
	rpc  *rpc.Client
	name string
	stop chan struct{}
	once sync.Once

	last     atomic.Int64 // when anything went either way, in nanoseconds since 1970
	mu       sync.Mutex
	standing int
}

// heard notes when anything goes over a connection: a slow one is not a dead one.
type heard struct {
	io.ReadWriteCloser
	last *atomic.Int64
}

func (h *heard) Read(b []byte) (int, error) {
	n, err := h.ReadWriteCloser.Read(b)
	h.last.Store(time.Now().UnixNano())
	return n, err
}

func (h *heard) Write(b []byte) (int, error) {
	n, err := h.ReadWriteCloser.Write(b)
	h.last.Store(time.Now().UnixNano())
	return n, err
}

// NewClient speaks with a Serve over a connection. Name is the machine's, for errors.
func NewClient(ctx context.Context, conn io.ReadWriteCloser, name string) (*Client, error) {
	c := &Client{name: name, stop: make(chan struct{})}
	c.rpc = rpc.NewClient(&heard{conn, &c.last})
	if _, err := c.call(ctx, "Hello", &Ask{}); err != nil {
		_ = c.rpc.Close()
		return nil, err
	}
	go c.beat()
	return c, nil
}

// beat says that it is there, often while the other end stands by for something. Where
// nothing has gone over the connection for long it is given up.
func (c *Client) beat() {
	for {
		pause := beat
		c.mu.Lock()
		if c.standing == 0 {
			pause = silence
		}
		c.mu.Unlock()
		select {
		case <-c.stop:
			return
		case <-time.After(pause):
		}
		ctx, cancel := context.WithTimeout(context.Background(), silence)
		_, err := c.call(ctx, "Hello", &Ask{})
		cancel()
		if err != nil && time.Since(time.Unix(0, c.last.Load())) > giveUp {
			_ = c.rpc.Close()
			return
		}
	}
}

// giveUp is after how long without a byte the other end is taken to be gone.
const giveUp = 15 * time.Second

// call waits for one answer.
func (c *Client) call(ctx context.Context, method string, a *Ask) (*Answer, error) {
	r := &Answer{}
	call := c.rpc.Go("Files."+method, a, r, make(chan *rpc.Call, 1))
	select {
	case <-call.Done:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if call.Error != nil {
		if errors.Is(call.Error, rpc.ErrShutdown) || errors.Is(call.Error, io.ErrUnexpectedEOF) {
			return nil, fmt.Errorf("%s: the connection has ended", c.name)
		}
		return nil, fmt.Errorf("%s: %w", c.name, call.Error)
	}
	return r, r.Failed.err()
}

// Close implements [files.Host].
func (c *Client) Close() error {
	c.once.Do(func() { close(c.stop) })
	if err := c.rpc.Close(); err != nil && !errors.Is(err, rpc.ErrShutdown) {
		return err
	}
	return nil
}

func (c *Client) walk(ctx context.Context, a *Ask, fn func([]files.Entry) error) error {
	r, err := c.call(ctx, "WalkOpen", a)
	if err != nil {
		return err
	}
	at := &Ask{Handle: r.Handle}
	for {
		r, err := c.call(ctx, "WalkNext", at)
		if err != nil || r.Finished {
			return err
		}
		if err := fn(r.Entries); err != nil {
			at.Flag = true
			_, _ = c.call(context.WithoutCancel(ctx), "WalkNext", at)
			return err
		}
	}
}

// Walk implements [files.Host].
func (c *Client) Walk(ctx context.Context, root string, r files.Rules, fn func([]files.Entry) error) error {
	return c.walk(ctx, &Ask{Root: root, Rules: r}, fn)
}

// Clone implements [files.Host].
func (c *Client) Clone(ctx context.Context, root, to string, r files.Rules, fn func([]files.Entry) error) error {
	return c.walk(ctx, &Ask{Root: root, To: to, Rules: r}, fn)
}

// Read implements [files.Host].
func (c *Client) Read(ctx context.Context, root string, e files.Entry) (files.Content, error) {
	r, err := c.call(ctx, "Read", &Ask{Root: root, Entry: e})
	if err != nil {
		return files.Content{}, err
	}
	return r.Content, nil
}

// Pieces implements [files.Host].
func (c *Client) Pieces(ctx context.Context, handle uint64, from int64, most int) ([]int64, int64, error) {
	r, err := c.call(ctx, "Pieces", &Ask{Handle: handle, Offset: from, N: most})
	if err != nil {
		return nil, -1, err
	}
	return r.Offsets, r.Next, nil
}

// ReadAt implements [files.Host].
func (c *Client) ReadAt(ctx context.Context, handle uint64, off int64, n int) ([]byte, error) {
	r, err := c.call(ctx, "ReadAt", &Ask{Handle: handle, Offset: off, N: n})
	if err != nil {
		return nil, err
	}
	return r.Data, nil
}

// StatFile implements [files.Host].
func (c *Client) StatFile(ctx context.Context, handle uint64) (files.Entry, error) {
	r, err := c.call(ctx, "StatFile", &Ask{Handle: handle})
	if err != nil {
		return files.Entry{}, err
	}
	return r.Entry, nil
}

// CloseFile implements [files.Host].
func (c *Client) CloseFile(handle uint64) error {
	_, err := c.call(context.Background(), "CloseFile", &Ask{Handle: handle})
	return err
}

// Stat implements [files.Host].
func (c *Client) Stat(ctx context.Context, root, path string) (files.Entry, error) {
	r, err := c.call(ctx, "Stat", &Ask{Root: root, Path: path})
	if err != nil {
		return files.Entry{}, err
	}
	return r.Entry, nil
}

func (c *Client) folders(ctx context.Context, root string, own bool) ([]string, error) {
	r, err := c.call(ctx, "Folders", &Ask{Root: root, Flag: own})
	if err != nil {
		return nil, err
	}
	return r.Names, nil
}

// Folders implements [files.Host].
func (c *Client) Folders(ctx context.Context, root string) ([]string, error) {
	return c.folders(ctx, root, false)
}

// Hidden implements [files.Host].
func (c *Client) Hidden(ctx context.Context, root string) ([]string, error) {
	return c.folders(ctx, root, true)
}

// Supports implements [files.Host].
func (c *Client) Supports(ctx context.Context, root string) (files.Support, error) {
	r, err := c.call(ctx, "Supports", &Ask{Root: root})
	if err != nil {
		return files.Support{}, err
	}
	return r.Support, nil
}

// InUse implements [files.Host].
func (c *Client) InUse(ctx context.Context, root string) (used []files.Usage, blind bool, err error) {
	r, err := c.call(ctx, "InUse", &Ask{Root: root})
	if err != nil {
		return nil, false, err
	}
	return r.Usages, r.Flag, nil
}

// Clock implements [files.Host].
func (c *Client) Clock(ctx context.Context) (now int64, system string, err error) {
	r, err := c.call(ctx, "Clock", &Ask{})
	if err != nil {
		return 0, "", err
	}
	return r.Next, r.Text, nil
}

// Resolve implements [files.Host].
func (c *Client) Resolve(ctx context.Context, path string) (string, error) {
	r, err := c.call(ctx, "Resolve", &Ask{Path: path})
	if err != nil {
		return "", err
	}
	return r.Text, nil
}

// Write implements [files.Host].
func (c *Client) Write(ctx context.Context, stage string, recs [][]byte) error {
	_, err := c.call(ctx, "Write", &Ask{Root: stage, Records: recs})
	return err
}

// Finish implements [files.Host].
func (c *Client) Finish(ctx context.Context, stage string) error {
	_, err := c.call(ctx, "Finish", &Ask{Root: stage})
	return err
}

// Describe implements [files.Host].
func (c *Client) Describe(ctx context.Context, root string, it files.Item) error {
	_, err := c.call(ctx, "Describe", &Ask{Root: root, Item: it})
	return err
}

// Make implements [files.Host].
func (c *Client) Make(ctx context.Context, path string) error {
	_, err := c.call(ctx, "Make", &Ask{Root: path})
	return err
}

// Publish implements [files.Host].
func (c *Client) Publish(ctx context.Context, stage, to string, replace bool) (int64, error) {
	r, err := c.call(ctx, "Publish", &Ask{Root: stage, To: to, Flag: replace})
	if err != nil {
		return 0, err
	}
	return r.Next, nil
}

// Remove implements [files.Host].
func (c *Client) Remove(ctx context.Context, path string) error {
	_, err := c.call(ctx, "Remove", &Ask{Root: path})
	return err
}

// Empty implements [files.Host].
func (c *Client) Empty(ctx context.Context, path string) error {
	_, err := c.call(ctx, "Remove", &Ask{Root: path, Flag: true})
	return err
}

// Note implements [files.Host].
func (c *Client) Note(ctx context.Context, path string) (string, error) {
	r, err := c.call(ctx, "Note", &Ask{Path: path})
	if err != nil {
		return "", err
	}
	return r.Text, nil
}

// SwapNote implements [files.Host].
func (c *Client) SwapNote(ctx context.Context, path, was, now string) (bool, error) {
	r, err := c.call(ctx, "SwapNote", &Ask{Path: path, Was: was, Now: now})
	if err != nil {
		return false, err
	}
	return r.Flag, nil
}

// Run implements [files.Host].
func (c *Client) Run(ctx context.Context, command, env []string) (string, error) {
	r, err := c.call(ctx, "Run", &Ask{Command: command, Env: env})
	if err != nil {
		return "", err
	}
	return r.Text, nil
}

// StandBy implements [files.Host].
func (c *Client) StandBy(ctx context.Context, id string, command, env []string, longest int64) error {
	_, err := c.call(ctx, "StandBy", &Ask{Path: id, Command: command, Env: env, Offset: longest})
	if err == nil {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.standing++
	}
	return err
}

// Relieve implements [files.Host].
func (c *Client) Relieve(ctx context.Context, id string) (bool, error) {
	r, err := c.call(ctx, "Relieve", &Ask{Path: id})
	if err != nil {
		return false, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.standing = max(0, c.standing-1)
	return r.Flag, nil
}
