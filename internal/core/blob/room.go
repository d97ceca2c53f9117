package blob

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

const (
	// keptRoom is a file of that many bytes, which is given up where a disk is full: so that what makes
	// room can begin. It is made where there is plenty.
	keptRoom     = 4 << 20
	keptRoomName = ".room"
	// small is what may have that room, in bytes: claims, marks, records of runs, and no content.
	small = 64 << 10
	// leftBehind is how old a file is that a write has left behind when it was cut short.
	leftBehind = 24 * time.Hour
	tidyEvery  = time.Hour
)

func isFull(err error) bool { return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) }

// giveRoom gives up the room that is kept, and reports whether there was any.
func (d *Dir) giveRoom() bool {
	return os.Remove(filepath.Join(d.root, tmpDir, keptRoomName)) == nil
}

// keepRoom sees that room is kept, where there is plenty, and removes what writes have left behind.
// It is no failure where it cannot: nothing of the store depends on it.
func (d *Dir) keepRoom() {
	folder := filepath.Join(d.root, tmpDir)
	list, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	kept := false
	for _, e := range list {
		switch st, err := e.Info(); {
		case err != nil:
		case e.Name() == keptRoomName:
			kept = st.Size() == keptRoom
		case strings.HasPrefix(e.Name(), "w-") && st.Mode().IsRegular() && time.Since(st.ModTime()) > leftBehind:
			_ = os.Remove(filepath.Join(folder, e.Name()))
		}
	}
	if free, err := d.Free(); kept || err != nil || free < 16*keptRoom {
		return
	}
	f, err := os.CreateTemp(folder, "w-*")
	if err != nil {
		return
	}
	// Zeros are written: a hole in a file keeps no room.
	err = errors.Join(d.adopt(f), write(f, keptRoom), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), filepath.Join(folder, keptRoomName))
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		_ = os.Remove(f.Name())
	}
}

func write(f *os.File, n int) error {
	_, err := f.Write(make([]byte, n))
	return err
}

// Create implements Backend.
func (d *Dir) Create(ctx context.Context, name string, data []byte) error {
	err := d.create(ctx, name, data)
	if isFull(err) && len(data) <= small && d.giveRoom() {
		return d.create(ctx, name, data)
	}
	if was := d.tidied.Load(); err == nil && time.Now().Unix()-was > int64(tidyEvery/time.Second) &&
		d.tidied.CompareAndSwap(was, time.Now().Unix()) {
		d.keepRoom()
	}
	return err
}
