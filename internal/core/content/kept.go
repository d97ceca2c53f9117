package content

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sys/unix"

	"dexamen/internal/core/sealed"
)

// keeping is the folder of this host where tables stay, so that who opens the store next reads
// only what has come since. Several processes may: one of them at a time writes, and only one
// whose tables are those that the folder names. It can be removed at any time.
type keeping struct {
	dir   string
	state string   // of the folder when it was read or written last
	file  *os.File // while it is locked
	spent bool     // another process has written it since
}

const keptName = "kept"

// kept is what the folder says of its tables: a checksum, and this as JSON.
type kept struct {
	Tables []string   `json:"tables"`
	Files  []keptFile `json:"files"` // by their numbers; without a name where tables hold nothing of it
	Read   []string   `json:"read"`  // listings
}

type keptFile struct {
	Name    string    `json:"name,omitempty"`
	Size    int64     `json:"size,omitempty"`
	End     int64     `json:"end,omitempty"`
	Made    time.Time `json:"made,omitzero"`
	Doubted bool      `json:"doubted,omitempty"`
}

// load reads what was kept, into an index that is empty. What is damaged is as if it were not there.
func (k *keeping) load(x *Index) {
	for range 3 { // tables may be merged by another process between a look at one and the other
		state, list, err := k.read()
		if k.state = state; err != nil {
			return
		}
		var tables []*table
		for _, name := range list.Tables {
			var t *table
			if t, err = openTable(k.dir, name); err != nil {
				break
			}
			tables = append(tables, t)
		}
		if err != nil {
			continue
		}
		x.tables = tables
		for n, f := range list.Files {
			x.Files = append(x.Files, &File{Name: f.Name, Size: f.Size, Made: f.Made, Doubted: f.Doubted, end: f.End,
				Gone: true, tabled: f.Name != ""})
			if f.Name != "" {
				x.number[f.Name] = uint32(n)
			}
		}
		for _, name := range list.Read {
			x.read[sealed.ListingsPrefix+name] = 2
		}
		return
	}
}

// read returns what the folder says, and what stands for that.
func (k *keeping) read() (state string, list kept, err error) {
	b, err := os.ReadFile(filepath.Join(k.dir, keptName))
	if errors.Is(err, fs.ErrNotExist) {
		return "", list, err
	}
	state, body, _ := strings.Cut(string(b), "\n")
	if err == nil && sum([]byte(body)) != state {
		err = errors.New("what was kept of the index of nodes is damaged")
	}
	if err == nil {
		err = json.Unmarshal([]byte(body), &list)
	}
	return state, list, err
}

func sum(b []byte) string {
	s := blake3.Sum256(b)
	return hex.EncodeToString(s[:])
}

// lock reports whether this process may write the folder, which nobody else does then.
func (k *keeping) lock() bool {
	if k == nil || k.spent || k.file != nil || os.MkdirAll(k.dir, 0o700) != nil {
		return false
	}
	f, err := os.OpenFile(filepath.Join(k.dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return false
	}
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		_ = f.Close()
		return false
	}
	k.file = f
	if state, _, _ := k.read(); state != k.state {
		k.spent = true
		k.unlock()
		return false
	}
	return true
}

func (k *keeping) locked() bool { return k != nil && k.file != nil }

func (k *keeping) unlock() {
	_ = k.file.Close()
	k.file = nil
}

func (k *keeping) newName() string { return sealed.NewID(8) }

// save has the folder say what an index holds in tables, and removes tables that are not of it. The
// folder is locked.
func (k *keeping) save(x *Index) error {
	x.Mu.RLock()
	var list kept
	for _, t := range x.tables {
		if t.name == "" {
			x.Mu.RUnlock()
			return nil // made while another process had the folder
		}
		list.Tables = append(list.Tables, t.name)
	}
	for _, f := range x.Files {
		if !f.tabled {
			list.Files = append(list.Files, keptFile{})
			continue
		}
		list.Files = append(list.Files, keptFile{f.Name, f.Size, f.end, f.Made, f.Doubted})
	}
	for name, often := range x.read {
		if often > 1 {
			list.Read = append(list.Read, strings.TrimPrefix(name, sealed.ListingsPrefix))
		}
	}
	x.Mu.RUnlock()
	body, err := json.Marshal(list)
	if err != nil {
		return err
	}
	state := sum(body)
	path := filepath.Join(k.dir, keptName)
	if err := os.WriteFile(path+".new", bytes.Join([][]byte{[]byte(state), body}, []byte("\n")), 0o600); err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	k.state = state
	k.clean(list.Tables)
	return nil
}

// clean removes tables that are not named; a process that has one open goes on reading it.
func (k *keeping) clean(named []string) {
	stay := map[string]bool{}
	for _, name := range named {
		stay[name] = true
	}
	list, _ := os.ReadDir(k.dir)
	for _, e := range list {
		name, ending, _ := strings.Cut(e.Name(), ".")
		if (ending == "nodes" || ending == "bases") && !stay[name] {
			_ = os.Remove(filepath.Join(k.dir, e.Name()))
		}
	}
}

// discard removes what was kept.
func (k *keeping) discard() {
	if k == nil {
		return
	}
	_ = os.Remove(filepath.Join(k.dir, keptName))
}
