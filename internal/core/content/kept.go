package content

import (
	"bufio"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
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
	// saved is when it was written last, took how long that took; unsaved says that tables have changed since.
	saved   time.Time
	took    time.Duration
	unsaved bool
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

// said returns what stands for what the folder says, without reading that.
func (k *keeping) said() string {
	f, err := os.Open(filepath.Join(k.dir, keptName))
	if err != nil {
		return ""
	}
	defer f.Close()
	var head [sumSize]byte
	n, _ := io.ReadFull(f, head[:])
	state, _, _ := strings.Cut(string(head[:n]), "\n")
	return state
}

// sumSize is how long a checksum is as text.
const sumSize = 64

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
	if k.said() != k.state {
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
	began := time.Now()
	var tables []string
	x.Mu.RLock()
	for _, t := range x.tables {
		if t.name == "" {
			x.Mu.RUnlock()
			return nil // made while another process had the folder
		}
		tables = append(tables, t.name)
	}
	x.Mu.RUnlock()
	path := filepath.Join(k.dir, keptName)
	state, err := writeKept(path+".new", func(out *bufio.Writer) error { return x.writeKept(out, tables) })
	if err != nil {
		return err
	}
	if err := os.Rename(path+".new", path); err != nil {
		return err
	}
	k.state = state
	k.clean(tables)
	k.saved, k.took, k.unsaved = time.Now(), time.Since(began), false
	return nil
}

// writeKept writes a file that says what it is told, bit by bit, behind the checksum of that, which is returned.
func writeKept(path string, tell func(out *bufio.Writer) error) (state string, err error) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return "", err
	}
	h := blake3.New()
	if _, err = f.Seek(sumSize+1, io.SeekStart); err == nil {
		out := bufio.NewWriterSize(io.MultiWriter(f, h), 64<<10)
		if err = tell(out); err == nil {
			err = out.Flush()
		}
	}
	state = hex.EncodeToString(h.Sum(nil))
	if err == nil {
		_, err = f.WriteAt([]byte(state+"\n"), 0)
	}
	return state, errors.Join(err, f.Close())
}

// writeKept writes a [kept] of what lies in tables.
func (x *Index) writeKept(out *bufio.Writer, tables []string) error {
	enc := json.NewEncoder(out)
	x.Mu.RLock()
	defer x.Mu.RUnlock()
	_, _ = out.WriteString(`{"tables":`)
	if err := enc.Encode(tables); err != nil {
		return err
	}
	_, _ = out.WriteString(`,"files":[`)
	for n, f := range x.Files {
		if n > 0 {
			_ = out.WriteByte(',')
		}
		of := keptFile{}
		if f.tabled {
			of = keptFile{f.Name, f.Size, f.end, f.Made, f.Doubted}
		}
		if err := enc.Encode(of); err != nil {
			return err
		}
	}
	_, _ = out.WriteString(`],"read":[`)
	n := 0
	for name, often := range x.read {
		if often <= 1 {
			continue
		}
		if n++; n > 1 {
			_ = out.WriteByte(',')
		}
		if err := enc.Encode(strings.TrimPrefix(name, sealed.ListingsPrefix)); err != nil {
			return err
		}
	}
	_, err := out.WriteString("]}") // what failed before fails it too
	return err
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
