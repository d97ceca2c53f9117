package files

import (
	"fmt"
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Rules choose files of a folder by patterns: *, ?, [a-z], {one,other}, and ** for any
// number of folders. A pattern without a slash is of names wherever they are, one with a
// slash of paths from the folder on; what is in a folder that fits one fits it too.
type Rules struct {
	// Only, where there are any, are what is taken; folders always are.
	Only []string
	// LeaveOut are what is not.
	LeaveOut []string
}

// CheckPattern returns an error where a text is no pattern.
func CheckPattern(p string) error {
	if p == "" || !doublestar.ValidatePattern(p) {
		return fmt.Errorf("%q is no pattern of file names, such as *.tmp or cache/**", p)
	}
	return nil
}

// Left reports whether a path is left out, without regard to the folders around it.
func (r *Rules) Left(p string) bool { return matchesAny(r.LeaveOut, p) }

// Takes reports whether a path that is not left out is taken.
func (r *Rules) Takes(p string, folder bool) bool {
	if len(r.Only) == 0 {
		return true
	}
	if folder {
		return p == "" || matchesAny(r.Only, p) || mayHold(r.Only, p)
	}
	for q := p; q != "." && q != "/"; q = path.Dir(q) {
		if matchesAny(r.Only, q) {
			return true
		}
	}
	return false
}

func matchesAny(patterns []string, p string) bool {
	for _, pat := range patterns {
		name := p
		if !strings.Contains(pat, "/") {
			name = path.Base(p)
		}
		if ok, _ := doublestar.Match(strings.Trim(pat, "/"), name); ok {
			return true
		}
	}
	return false
}

// mayHold reports whether a folder may have something in it that fits.
func mayHold(patterns []string, folder string) bool {
	parts := strings.Split(folder, "/")
	for _, pat := range patterns {
		if !strings.Contains(pat, "/") {
			return true
		}
		ok := true
		for i, el := range strings.Split(strings.Trim(pat, "/"), "/") {
			if el == "**" || i >= len(parts) {
				break
			}
			if ok, _ = doublestar.Match(el, parts[i]); !ok {
				break
			}
		}
		if ok {
			return true
		}
	}
	// What is in a folder that fits is taken with it.
	for q := folder; q != "." && q != "/"; q = path.Dir(q) {
		if matchesAny(patterns, q) {
			return true
		}
	}
	return false
}
