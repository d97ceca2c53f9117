package tour

import (
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"dexamen/internal/demo"
)

// comb is the part of the demonstration on a folder of files.
func (p *Tour) comb() error {
	if runtime.GOOS != "linux" {
		p.say("Folders of files are protected on Linux only: that part is left out here.")
		return nil
	}
	photos := demo.Photos{Seed: 1, Count: max(90, p.Documents/20)}
	dir := p.path("comb/photos")
	if err := photos.Fill(dir); err != nil {
		return err
	}
	// What was written just now is read again the next time: times tell of it only later.
	time.Sleep(2100 * time.Millisecond)
	err := p.register(fmt.Sprintf("  comb:\n    address: file://%s\n    labels: { server: gallery }\n"+
		"    options: { leave_out: [\"*.tmp\"] }\n    store: larder\n", dir))
	if err != nil {
		return err
	}
	err = p.addSection(fmt.Sprintf(`quiesce:
  gallery:
    applies_to: { kind: folder, label: server=gallery }
    begin: [touch, %[1]q]
    end: [rm, -f, %[1]q]
    check: [test, -e, %[1]q]
    longest: 30s
`, p.path("gallery-closed")))
	if err != nil {
		return err
	}
	p.say("Folders: comb is the photo archive, with the catalogue of the gallery's server. What holds that server " +
		"still " +
		"while its files are copied is said once, for all clusters with its label.")
	for _, line := range []string{"cluster list", "cluster check comb", "snapshot comb"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	p.say("The server writes a few pages of its catalogue. The next point reads that file alone, and stores the pages.")
	if err := photos.Catalogue(dir); err != nil {
		return err
	}
	if err := p.do(done, "snapshot", "comb"); err != nil {
		return err
	}
	p.say("A script for thumbnails is given the wrong folder.")
	if err := photos.Spoil(filepath.Join(dir, "2026/north yard")); err != nil {
		return err
	}
	if err := p.do(differs, "compare", "comb@latest/photos", "comb@live/photos", "--show", "4"); err != nil {
		return err
	}
	p.say("That folder comes back beside, to be looked at; then the whole archive in place, in one step.")
	for _, args := range [][]string{
		{"restore", "comb@latest/photos", "--rename", "photos=north-yard", "--files", "2026/north yard/**", "--yes"},
		{"restore", "comb@latest/photos", "--conflict", "replace", "--yes"},
		{"verify", "comb@latest/photos", "--live", "comb"},
	} {
		if err := p.do(done, args...); err != nil {
			return err
		}
	}
	return nil
}
