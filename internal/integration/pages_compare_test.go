package integration_test

import (
	"math/rand/v2"
	"net"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// forms are the forms of what differs from run to run, those first that others are part of. What is kept
// is noted: further down the page it stands for the same.
var forms = []struct {
	name string
	kept bool
	re   string
}{
	{"IDENTITY", true, `\b[a-z2-7]{8}-[a-z2-7]{8}-[a-z2-7]{8}-[a-z2-7]{8}\b`},
	{"RUN", true, `\b\d{8}-\d{6}\.\d{3}-[0-9a-f]{6}\b`},
	{"POINT", true, `\b\d{8}-\d{6}-[a-z2-7]{4}\b`},
	{"STAMP", true, `\b\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:\d\d)`},
	{"STAMP", true, `\b\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?:\.\d+)?(?: [+-]\d\d:\d\d)?`},
	{"DATE", true, `\b\d{4}[.-]\d\d[.-]\d\d\b`},
	{"TIME", true, `\b\d\d:\d\d(?::\d\d(?:\.\d+)?)?\b`},
	{"LOG", true, `\blog:\d+(?:\.\d+)?\b`},
	{"AT", true, `\b\d{10}\.\d+\b`},
	{"TRIAL", false, `\bt[0-9a-f]{8}_`},
	{"KEY", true, `\bage1[0-9a-z]{20,}|AGE-SECRET-KEY-[0-9A-Z]+`},
	{"LENT", true, `\bdexamen-lent-[0-9a-f]{8}\b`},
	{"OBJECT", true, `\bcontent/[0-9a-f]{2}/[0-9a-f]{32}\b`},
	{"FRAME", false, `\bat byte \d+\b`},
	{"HASH", true, `\b[0-9a-f]{64}\b|\b[0-9a-f]{32}\b|\b[0-9a-f]{30}\b|\b[0-9a-f]{12}\b`},
	{"HOLDER", true, `\b[0-9a-f]{8}\b`},
	{"SHORT", true, `\b[0-9a-f]{6}\b`},
	{"USER", false, `\b\w+ by hand\b|\brequested by \w+:|\buser \w+$`},
	{"VERSION", false, `\bdexamen \S+, process`},
	{"SIGNER", true, `\bwith a key that is known: \S+`},
	{"VERSION", false, `\bdexamen \S+ \(go\S+ \S+\)`},
	{"PASSWORD", true, `\breader:[0-9a-z]{24}\b`},
	{"HOST", false, `\b127\.0\.0\.1:\d+\b`},
	{"SIZE", false, `\b\d[\d,]*(?:\.\d+)? (?:B|KiB|MiB|GiB|TiB)\b`},
	{"SHARE", false, `\b\d+(?:\.\d+)? %`},
	{"LENGTH", false, `(?:\b\d+(?:\.\d+)?(?:ns|µs|ms|s|m|h|min) ?)+(?:\b|$)`},
	{"PROCESS", false, `\b\d+ on [\w-]+`},
	{"RIBBON", false, `[━◆╳┄─·░▒▓█▁▂▃▄▅▆▇]{3,}(?: *[━◆╳┄─·░▒▓█▁▂▃▄▅▆▇]+)*`},
}

// dated is a time, which a page may show of an earlier run beside those of a later one.
var dated = regexp.MustCompile(`^[\d: .TZ+-]+$`)

var anyForm = func() *regexp.Regexp {
	var all []string
	for _, f := range forms {
		all = append(all, "("+f.re+")")
	}
	return regexp.MustCompile(strings.Join(all, "|"))
}()

// byForm returns a line with what differs from run to run replaced by the name of its form, and
// what that was.
func byForm(line string) (text string, kept []string) {
	var b strings.Builder
	last := 0
	for _, m := range anyForm.FindAllStringSubmatchIndex(line, -1) {
		b.WriteString(line[last:m[0]])
		for i, f := range forms {
			if m[2+2*i] >= 0 {
				b.WriteString("{" + f.name + "} ")
				if f.kept {
					kept = append(kept, line[m[0]:m[1]])
				}
			}
		}
		last = m[1]
	}
	b.WriteString(line[last:])
	text = strings.Join(strings.Fields(b.String()), " ")
	for strings.Contains(text, "{TIME} {TIME}") { // a ribbon's have as many as there is room for
		text = strings.ReplaceAll(text, "{TIME} {TIME}", "{TIME}")
	}
	return text, kept
}

// compare holds what a page shows against what was printed, and returns what it is to show.
func (r *reader) compare(where string, shown []string, got string) []string {
	printed, actually := []string{}, got
	if got = strings.TrimRight(r.shown(got), "\n"); got != "" {
		printed = strings.Split(got, "\n")
	}
	at, ok := r.fits(shown, printed)
	if !ok { // what is done side by side, or sorted by time, comes in another order now and then
		_, ok = r.fits(sortedByForm(shown), sortedByForm(printed))
	}
	if !ok {
		if *updatePages {
			return printed
		}
		near := append(slices.Clone(printed[at:]), "the end")
		require.Fail(r.t, "what is printed is not what the page shows", "%s: from here on:\n%s\n\nall:\n%s\n\n"+
			"shown:\n%s", where, near[0], got, strings.Join(shown, "\n"))
	}
	if *updatePages && *renewPages && len(printed) > 0 && !slices.ContainsFunc(shown, isCut) {
		return strings.Split(strings.TrimRight(r.shown(actually), "\n"), "\n")
	}
	return shown
}

// isCut reports whether a line stands for any number of lines.
func isCut(line string) bool { return strings.TrimSpace(line) == "…" }

// sortedByForm returns lines in the order of their forms; those of one form stay in their order.
func sortedByForm(lines []string) []string {
	lines = slices.Clone(lines)
	slices.SortStableFunc(lines, func(a, b string) int {
		fa, _ := byForm(a)
		fb, _ := byForm(b)
		return strings.Compare(fa, fb)
	})
	return lines
}

// fits reports whether lines are those that are shown, else from which on they are not.
func (r *reader) fits(shown, printed []string) (at int, ok bool) {
	i := 0
	for n, line := range shown {
		if isCut(line) {
			if n == len(shown)-1 {
				return len(printed), true
			}
			next, _ := byForm(shown[n+1])
			for i < len(printed) {
				if is, _ := byForm(printed[i]); is == next {
					break
				}
				i++
			}
			continue
		}
		if i >= len(printed) {
			return i, false
		}
		want, was := byForm(line)
		is, now := byForm(printed[i])
		if want != is {
			return i, false
		}
		if len(was) == len(now) {
			for k := range was {
				if r.known[was[k]] == "" {
					r.known[was[k]] = r.actual(now[k])
				}
			}
		}
		i++
	}
	return i, i == len(printed)
}

// actual returns a text of a page as it is in this run.
func (r *reader) actual(text string) string {
	return r.ports.actual(strings.ReplaceAll(replaced(text, r.known), shownHome, filepath.Dir(r.dir)))
}

// shown returns a text of this run as a page shows it.
func (r *reader) shown(text string) string {
	was := map[string]string{}
	for k, v := range r.known {
		if !dated.MatchString(k) {
			was[v] = k
		}
	}
	return replaced(r.ports.shown(strings.ReplaceAll(text, filepath.Dir(r.dir), shownHome)), was)
}

// replaced returns a text with what is in a table put in the place of its keys, the longest first, as one may
// be part of another.
func replaced(text string, by map[string]string) string {
	var names []string
	for k := range by {
		names = append(names, regexp.QuoteMeta(k))
	}
	if len(names) == 0 {
		return text
	}
	sort.Slice(names, func(i, j int) bool { return len(names[i]) > len(names[j]) })
	return regexp.MustCompile(strings.Join(names, "|")).ReplaceAllStringFunc(text, func(s string) string {
		return by[s]
	})
}

// ports is where the ports of a page begin: it shows those from 27000 on, and each page has its own.
type ports int

var (
	portShown  = regexp.MustCompile(`\b270[0-2]\d\b`)
	portActual = regexp.MustCompile(`\b3\d{4}\b`)
)

const portsOfAPage = 30

// blocks are the ports that other pages have.
var blocks sync.Map

// freePorts returns where a page's ports begin: above those that other tests choose from, and below those
// that the system gives to whoever asks for any.
func freePorts(t testing.TB) ports {
	for range 1000 {
		from := 30000 + portsOfAPage*rand.IntN(2700/portsOfAPage)
		if _, taken := blocks.LoadOrStore(from, true); taken {
			continue
		}
		free := true
		for i := range portsOfAPage {
			l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(from+i))
			if free = free && err == nil; err == nil {
				_ = l.Close()
			}
		}
		if free {
			return ports(from)
		}
	}
	t.Fatal("no free ports")
	return 0
}

func (p ports) actual(text string) string {
	return portShown.ReplaceAllStringFunc(text, func(s string) string {
		n, _ := strconv.Atoi(s)
		return strconv.Itoa(n - 27000 + int(p))
	})
}

func (p ports) shown(text string) string {
	return portActual.ReplaceAllStringFunc(text, func(s string) string {
		n, _ := strconv.Atoi(s)
		if n < int(p) || n >= int(p)+portsOfAPage {
			return s
		}
		return strconv.Itoa(n + 27000 - int(p))
	})
}
