// Package remote gives access to the folders of another machine through a process of this
// program there: [Serve] is that process, [NewClient] speaks with it. What they speak is
// theirs alone; both are of one build.
package remote

import (
	"context"
	"errors"
	"io/fs"

	"dexamen/internal/engine/folder/files"
)

// Argument is the one with which the program serves files on its standard input and output.
const Argument = "serve-files"

// failure is an error on its way.
type failure struct {
	Text string
	Is   []string
}

// sentinels are the errors that are known again at the other end.
var sentinels = map[string]error{
	"no folder": files.ErrNoFolder, "changed": files.ErrChanged, "occupied": files.ErrOccupied,
	"no exchange": files.ErrNoExchange, "record": files.ErrRecord, "not there": fs.ErrNotExist,
	"permission": fs.ErrPermission, "platform": files.ErrPlatform, "closed": fs.ErrClosed,
	"canceled": context.Canceled,
}

func failed(err error) *failure {
	if err == nil {
		return nil
	}
	f := &failure{Text: err.Error()}
	for name, s := range sentinels {
		if errors.Is(err, s) {
			f.Is = append(f.Is, name)
		}
	}
	return f
}

// remoteError is an error of the other end.
type remoteError struct {
	text string
	is   []error
}

func (e *remoteError) Error() string   { return e.text }
func (e *remoteError) Unwrap() []error { return e.is }

func (f *failure) err() error {
	if f == nil {
		return nil
	}
	e := &remoteError{text: f.Text}
	for _, name := range f.Is {
		if s := sentinels[name]; s != nil {
			e.is = append(e.is, s)
		}
	}
	return e
}

// Ask is what any call is given, Answer what it gives; each call uses some of it.
type Ask struct {
	Root, Path, To string
	Rules          files.Rules
	Entry          files.Entry
	Item           files.Item
	Handle         uint64
	Offset         int64
	N              int
	Records        [][]byte
	Command, Env   []string
	Was, Now       string
	Flag           bool
}

type Answer struct {
	Failed   *failure
	Entries  []files.Entry
	Entry    files.Entry
	Content  files.Content
	Data     []byte
	Offsets  []int64
	Next     int64
	Names    []string
	Support  files.Support
	Usages   []files.Usage
	Text     string
	Flag     bool
	Handle   uint64
	Finished bool
}
