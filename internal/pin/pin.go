// Package pin remembers, on this host, which store was found at each place, so that another
// one in its place is not taken for it.
package pin

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"github.com/zeebo/blake3"

	"dexamen/internal/core/blob"
)

// Pins are a folder of this host with a file for each place.
type Pins struct {
	// Folder is where they are kept; empty where this host has no place for them, and
	// nothing is remembered.
	Folder string
}

// Seen is what was found at a place.
type Seen struct {
	Place    string    `json:"place"`
	Identity string    `json:"identity"`
	Since    time.Time `json:"since"`
}

// ChangedError is returned when another store is at a place than was there before.
type ChangedError struct {
	Seen
	Now string // the identity of the one that is there now
	// File is to be removed where that is right.
	File string
}

// Error implements error.
func (e *ChangedError) Error() string {
	return fmt.Sprintf("%s: another store is there than this host has used since %s: its identity was %s and is %s; "+
		"where that is right, remove %s", e.Place, e.Since.Local().Format(time.DateOnly), e.Identity, e.Now, e.File)
}

// StateFolder returns where what this host's user must not forget is kept: in the state folder that a
// service manager gives (STATE_DIRECTORY), or the user's (XDG_STATE_HOME, ~/.local/state); empty where
// there is none.
func StateFolder() string {
	for _, dir := range []string{os.Getenv("STATE_DIRECTORY"), os.Getenv("XDG_STATE_HOME")} {
		if filepath.IsAbs(dir) {
			return filepath.Join(dir, "dexamen")
		}
	}
	home, err := os.UserHomeDir()
	if err != nil || !filepath.IsAbs(home) {
		return ""
	}
	return filepath.Join(home, ".local", "state", "dexamen")
}

// Host returns the pins of this host's user.
func Host() Pins {
	if state := StateFolder(); state != "" {
		return Pins{filepath.Join(state, "stores")}
	}
	return Pins{}
}

func (p Pins) file(place string) string {
	sum := blake3.Sum256([]byte(place))
	return filepath.Join(p.Folder, hex.EncodeToString(sum[:12])+".json")
}

// Check compares the store that is at a place with the one that was there before; the first
// one is remembered. A host that cannot remember it goes without.
func (p Pins) Check(place, identity string) error {
	if p.Folder == "" {
		return nil
	}
	seen, err := p.Known(place)
	if err != nil {
		return err
	}
	if seen.Identity == "" {
		_ = p.Set(place, identity)
		return nil
	}
	if seen.Identity != identity {
		return &ChangedError{Seen: seen, Now: identity, File: p.file(place)}
	}
	return nil
}

// Known returns which store this host has used at a place; without an identity where it has used none, or
// cannot remember.
func (p Pins) Known(place string) (seen Seen, err error) {
	if p.Folder == "" {
		return seen, nil
	}
	raw, err := os.ReadFile(p.file(place))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) || errors.Is(err, fs.ErrPermission) {
		return seen, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &seen)
	}
	if err != nil {
		return seen, fmt.Errorf("%s: which store this host has used cannot be read: %w; remove it to begin anew",
			p.file(place), err)
	}
	return seen, nil
}

// Set remembers the store at a place, whatever was there before.
func (p Pins) Set(place, identity string) error {
	if p.Folder == "" {
		return nil
	}
	return Save(p.file(place), Seen{place, identity, time.Now().UTC().Truncate(time.Second)})
}

// Save writes what is to be remembered into a file of the state folder, as JSON: as a whole, or not at
// all. The folders are made where they are not there.
func Save(file string, v any) error {
	folder := filepath.Dir(file)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(folder, ".new-*")
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(f.Name()) }()
	_, err = f.Write(append(raw, '\n'))
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return errors.Join(os.Rename(f.Name(), file), blob.SyncFolder(folder))
}
