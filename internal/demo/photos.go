package demo

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"time"
)

// Photos is the cooperative's photo archive, with the gallery's catalogue.
type Photos struct {
	Seed  uint64
	Count int // of photos
}

// photoYards are the folders of each year.
var photoYards = []string{"heather", "north yard", "orchard", "south yard", "Wildblumenwiese", "пасека"}

// Folders returns the folders of the archive, from its own on.
func (p Photos) Folders() (out []string) {
	for _, year := range []string{"2024", "2025", "2026"} {
		for _, yard := range photoYards {
			out = append(out, filepath.Join(year, yard))
		}
	}
	return out
}

// Fill makes the archive in a folder, which must not be there: the same every time.
func (p Photos) Fill(dir string) error {
	r, noise := rand.New(rand.NewPCG(p.Seed, 7)), rand.NewChaCha8([32]byte{byte(p.Seed)})
	folders := p.Folders()
	for _, f := range folders {
		if err := os.MkdirAll(filepath.Join(dir, f), 0o755); err != nil { //nolint:gosec // photos are for all to see
			return err
		}
	}
	day := time.Date(2024, 4, 1, 8, 0, 0, 0, time.UTC)
	for i := range p.Count {
		photo := make([]byte, 2_000+r.IntN(20_000)*(1+i%7/6*8))
		_, _ = noise.Read(photo)
		name := filepath.Join(dir, folders[i*len(folders)/p.Count], fmt.Sprintf("hive-%03d.jpg", 1+r.IntN(40)*25+i%25))
		if err := os.WriteFile(name, photo, 0o644); err != nil { //nolint:gosec // likewise
			return err
		}
		if err := os.Chtimes(name, day, day.Add(time.Duration(i)*2*time.Hour)); err != nil {
			return err
		}
	}
	catalogue := make([]byte, 3<<20)
	for i := 0; i < len(catalogue); i += 64 {
		copy(catalogue[i:], fmt.Sprintf("photo %06d yard %s\n", i/64, photoYards[i/64%len(photoYards)]))
	}
	return os.WriteFile(filepath.Join(dir, "gallery.db"), catalogue, 0o600)
}

// Spoil shrinks the photos of a folder to nothing worth having and removes every third:
// what a script for thumbnails does when it is given the wrong folder.
func (p Photos) Spoil(dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for i, e := range list {
		name := filepath.Join(dir, e.Name())
		if i%3 == 2 {
			err = os.Remove(name)
		} else {
			err = os.WriteFile(name, []byte("thumbnail"), 0o644) //nolint:gosec // as it was
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Catalogue writes what the gallery's server does in an hour: a page here and there.
func (p Photos) Catalogue(dir string) error {
	f, err := os.OpenFile(filepath.Join(dir, "gallery.db"), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	r := rand.New(rand.NewPCG(p.Seed, 8))
	for range 10 {
		if _, err := f.WriteAt(fmt.Appendf(nil, "seen %06d\n", r.IntN(1e6)), int64(r.IntN(700))*4096); err != nil {
			return err
		}
	}
	return f.Close()
}
