package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/rpc"
	"os"
	"sync"
	"time"

	"dexamen/internal/engine/folder/files"
)

const (
	// silence is for how long the other end may say nothing while something is held still.
	silence = 4 * time.Second
	// beat is how often it says something.
	beat = time.Second
	// resumeFor is how long letting go is tried.
	resumeFor = 10 * time.Minute
)

// Serve serves this machine's files until in ends; what it stood by for is let go on then.
// It returns the process' exit code.
func Serve(in io.ReadCloser, out io.WriteCloser, messages io.Writer) int {
	host, err := files.NewLocal()
	if err != nil {
		fmt.Fprintf(messages, "dexamen: %v\n", err)
		return 1
	}
	s := &service{host: host, walks: map[uint64]*walk{}, standing: map[string]*standing{}, messages: messages,
		heard: time.Now()}
	srv := rpc.NewServer()
	if err := srv.RegisterName("Files", s); err != nil {
		fmt.Fprintf(messages, "dexamen: %v\n", err)
		return 1
	}
	stop := make(chan struct{})
	go s.watch(stop)
	srv.ServeConn(&pipe{in, out, s})
	close(stop)
	s.mu.Lock()
	for _, w := range s.walks {
		w.cancel()
	}
	s.mu.Unlock()
	s.resumeAll("the connection has ended")
	_ = host.Close()
	return 0
}

type pipe struct {
	io.ReadCloser
	w io.WriteCloser
	s *service
}

func (p *pipe) Read(b []byte) (int, error) {
	n, err := p.ReadCloser.Read(b)
	p.s.touch()
	return n, err
}

func (p *pipe) Write(b []byte) (int, error) { return p.w.Write(b) }

func (p *pipe) Close() error { return errors.Join(p.ReadCloser.Close(), p.w.Close()) }

// service is what is called. Its methods have the form that net/rpc asks for.
type service struct {
	host     files.Host
	messages io.Writer

	mu       sync.Mutex
	last     uint64
	walks    map[uint64]*walk
	standing map[string]*standing
	heard    time.Time
}

type walk struct {
	batches chan []files.Entry
	err     error // set before batches is closed
	cancel  context.CancelFunc
}

// standing is a command that is to run when nothing is heard any more.
type standing struct {
	once         sync.Once
	command, env []string
	until        time.Time
	ran          bool
}

func (s *service) touch() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.heard = time.Now()
}

// watch lets go on what is held when the other end is silent, or the time is over.
func (s *service) watch(stop chan struct{}) {
	for {
		select {
		case <-stop:
			return
		case <-time.After(beat / 4):
		}
		s.mu.Lock()
		quiet := time.Since(s.heard) > silence
		var late []*standing
		for _, st := range s.standing {
			if quiet || !st.until.IsZero() && time.Now().After(st.until) {
				late = append(late, st)
			}
		}
		s.mu.Unlock()
		for _, st := range late {
			why := "the time is over for which it may be held"
			if quiet {
				why = "nothing was heard any more"
			}
			go s.resumeOne(st, why)
		}
	}
}

func (s *service) resumeOne(st *standing, why string) {
	st.once.Do(func() {
		s.mu.Lock()
		st.ran = true
		s.mu.Unlock()
		ctx, cancel := context.WithTimeout(context.Background(), resumeFor)
		defer cancel()
		for pause := 100 * time.Millisecond; ; pause = min(2*pause, 5*time.Second) {
			_, err := s.host.Run(ctx, st.command, st.env)
			if err == nil || ctx.Err() != nil {
				fmt.Fprintf(s.messages, "dexamen: %s: what was held still was let go on (%v)\n", why, err)
				return
			}
			select {
			case <-ctx.Done():
			case <-time.After(pause):
			}
		}
	})
}

func (s *service) resumeAll(why string) {
	s.mu.Lock()
	var all []*standing
	for _, st := range s.standing {
		all = append(all, st)
	}
	s.mu.Unlock()
	var wg sync.WaitGroup
	for _, st := range all {
		wg.Go(func() { s.resumeOne(st, why) })
	}
	wg.Wait()
}

var background = context.Background()

// Hello says that it is there.
func (s *service) Hello(_ *Ask, r *Answer) error {
	host, err := os.Hostname()
	r.Text, r.Failed = host, failed(err)
	return nil
}

func (s *service) WalkOpen(a *Ask, r *Answer) error {
	ctx, cancel := context.WithCancel(background)
	w := &walk{batches: make(chan []files.Entry, 4), cancel: cancel}
	s.mu.Lock()
	s.last++
	r.Handle = s.last
	s.walks[r.Handle] = w
	s.mu.Unlock()
	go func() {
		defer close(w.batches)
		take := func(batch []files.Entry) error {
			select {
			case w.batches <- append([]files.Entry(nil), batch...):
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if a.To != "" {
			w.err = s.host.Clone(ctx, a.Root, a.To, a.Rules, take)
			return
		}
		w.err = s.host.Walk(ctx, a.Root, a.Rules, take)
	}()
	return nil
}

func (s *service) WalkNext(a *Ask, r *Answer) error {
	s.mu.Lock()
	w := s.walks[a.Handle]
	s.mu.Unlock()
	if w == nil {
		r.Failed = failed(os.ErrClosed)
		return nil
	}
	if !a.Flag { // enough
		var ok bool
		if r.Entries, ok = <-w.batches; ok {
			return nil
		}
		r.Finished, r.Failed = true, failed(w.err)
	}
	w.cancel()
	s.mu.Lock()
	delete(s.walks, a.Handle)
	s.mu.Unlock()
	return nil
}

func (s *service) Read(a *Ask, r *Answer) (_ error) {
	var err error
	r.Content, err = s.host.Read(background, a.Root, a.Entry)
	r.Failed = failed(err)
	return nil
}

func (s *service) Pieces(a *Ask, r *Answer) (_ error) {
	var err error
	r.Offsets, r.Next, err = s.host.Pieces(background, a.Handle, a.Offset, a.N)
	r.Failed = failed(err)
	return nil
}

func (s *service) ReadAt(a *Ask, r *Answer) (_ error) {
	var err error
	r.Data, err = s.host.ReadAt(background, a.Handle, a.Offset, a.N)
	r.Failed = failed(err)
	return nil
}

func (s *service) StatFile(a *Ask, r *Answer) (_ error) {
	var err error
	r.Entry, err = s.host.StatFile(background, a.Handle)
	r.Failed = failed(err)
	return nil
}

func (s *service) CloseFile(a *Ask, r *Answer) (_ error) {
	r.Failed = failed(s.host.CloseFile(a.Handle))
	return nil
}

func (s *service) Stat(a *Ask, r *Answer) (_ error) {
	var err error
	r.Entry, err = s.host.Stat(background, a.Root, a.Path)
	r.Failed = failed(err)
	return nil
}

func (s *service) Folders(a *Ask, r *Answer) (_ error) {
	var err error
	if a.Flag {
		r.Names, err = s.host.Hidden(background, a.Root)
	} else {
		r.Names, err = s.host.Folders(background, a.Root)
	}
	r.Failed = failed(err)
	return nil
}

func (s *service) Supports(a *Ask, r *Answer) (_ error) {
	var err error
	r.Support, err = s.host.Supports(background, a.Root)
	r.Failed = failed(err)
	return nil
}

func (s *service) InUse(a *Ask, r *Answer) (_ error) {
	var err error
	r.Usages, r.Flag, err = s.host.InUse(background, a.Root)
	r.Failed = failed(err)
	return nil
}

func (s *service) Clock(_ *Ask, r *Answer) (_ error) {
	var err error
	r.Next, r.Text, err = s.host.Clock(background)
	r.Failed = failed(err)
	return nil
}

func (s *service) Resolve(a *Ask, r *Answer) (_ error) {
	var err error
	r.Text, err = s.host.Resolve(background, a.Path)
	r.Failed = failed(err)
	return nil
}

func (s *service) Write(a *Ask, r *Answer) (_ error) {
	r.Failed = failed(s.host.Write(background, a.Root, a.Records))
	return nil
}

func (s *service) Finish(a *Ask, r *Answer) (_ error) {
	r.Failed = failed(s.host.Finish(background, a.Root))
	return nil
}

func (s *service) Describe(a *Ask, r *Answer) (_ error) {
	r.Failed = failed(s.host.Describe(background, a.Root, a.Item))
	return nil
}

func (s *service) Make(a *Ask, r *Answer) (_ error) {
	r.Failed = failed(s.host.Make(background, a.Root))
	return nil
}

func (s *service) Publish(a *Ask, r *Answer) (_ error) {
	var err error
	r.Next, err = s.host.Publish(background, a.Root, a.To, a.Flag)
	r.Failed = failed(err)
	return nil
}

func (s *service) Remove(a *Ask, r *Answer) (_ error) {
	if a.Flag {
		r.Failed = failed(s.host.Empty(background, a.Root))
	} else {
		r.Failed = failed(s.host.Remove(background, a.Root))
	}
	return nil
}

func (s *service) Note(a *Ask, r *Answer) (_ error) {
	var err error
	r.Text, err = s.host.Note(background, a.Path)
	r.Failed = failed(err)
	return nil
}

func (s *service) SwapNote(a *Ask, r *Answer) (_ error) {
	var err error
	r.Flag, err = s.host.SwapNote(background, a.Path, a.Was, a.Now)
	r.Failed = failed(err)
	return nil
}

func (s *service) Run(a *Ask, r *Answer) (_ error) {
	var err error
	r.Text, err = s.host.Run(background, a.Command, a.Env)
	r.Failed = failed(err)
	return nil
}

func (s *service) StandBy(a *Ask, _ *Answer) error {
	st := &standing{command: a.Command, env: a.Env}
	if a.Offset > 0 {
		st.until = time.Now().Add(time.Duration(a.Offset))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.standing[a.Path] = st
	return nil
}

func (s *service) Relieve(a *Ask, r *Answer) error {
	s.mu.Lock()
	st := s.standing[a.Path]
	delete(s.standing, a.Path)
	s.mu.Unlock()
	if st == nil {
		return nil
	}
	st.once.Do(func() {})
	s.mu.Lock()
	defer s.mu.Unlock()
	r.Flag = st.ran
	return nil
}
