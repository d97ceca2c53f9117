package integration_test

import (
	"bytes"
	"flag"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// updatePages has the pages written anew with what was printed, where that is not what they show.
var (
	updatePages = flag.Bool("update", false, "write what was printed into the pages, where they show something else")
	renewPages  = flag.Bool("renew", false, "with -update: also the times and sizes of what they show rightly")
)

// TestPages does what the pages say. Of a page
//
//	```console         each command after a "$ " is run in one shell, and what it prints is what is
//	                   shown (but for how far it is); a line "…" stands for any number of lines; a command
//	                   that does not end with 0 has "# exit code N" after it
//	```console meadow  in a terminal of its own: "$ " starts what stays, "> " is typed into it
//	```sh              is run, all of it, and ends with 0
//	```yaml FILE       is that file from then on
//	<!-- COMMAND -->   is run without being shown, <!-- NAME> LINE --> is typed into a terminal,
//	                   <!-- first: PAGE --> does what another page says before
//
// Times, ids, sizes and the like differ from run to run: they are compared by their form, and what a page
// shows of one stands for what was printed in its place when it is used again further down.
func TestPages(t *testing.T) {
	t.Parallel()
	var pages []string
	require.NoError(t, filepath.WalkDir("../../docs", func(name string, _ os.DirEntry, err error) error {
		if strings.HasSuffix(name, ".md") {
			pages = append(pages, name)
		}
		return err
	}))
	// What runs at the same time is bounded: each has servers of its own.
	slots := make(chan struct{}, 2)
	for _, name := range append(pages, "../../README.md") {
		t.Run(strings.TrimPrefix(strings.TrimPrefix(name, "../../"), "docs/"), func(t *testing.T) {
			t.Parallel()
			slots <- struct{}{}
			defer func() { <-slots }()
			runPage(t, name)
		})
	}
}

// reader is somebody who does what a page says.
type reader struct {
	t       *testing.T
	dir     string
	shell   *exec.Cmd
	in      *os.File
	ends    *os.File
	windows map[string]*window
	// known has what a page shows of something that differs from run to run, with what it is in this one.
	known   map[string]string
	ports   ports
	printed string
	n       int
}

type window struct {
	cmd *exec.Cmd
	in  *os.File
	out string // the file with what was printed
	at  int64  // how much of that has been looked at
}

// shownHome is where a page's reader is at home.
const shownHome = "/home/keeper"

func runPage(t *testing.T, name string) {
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	if !strings.Contains(string(text), "```console") && !strings.Contains(string(text), "```sh") {
		return
	}
	home := t.TempDir()
	r := &reader{t: t, dir: filepath.Join(home, "practice"), windows: map[string]*window{},
		known: map[string]string{}, ports: freePorts(t)}
	require.NoError(t, os.Mkdir(r.dir, 0o750))
	require.NoError(t, os.Mkdir(filepath.Join(home, "bin"), 0o750))
	require.NoError(t, os.Symlink(builtBinary(t), filepath.Join(home, "bin", "dexamen")))
	r.openShell(home)
	now := r.do(name, string(text))
	if *updatePages && now != string(text) {
		require.NoError(t, os.WriteFile(name, []byte(now), 0o600))
	}
}

func (r *reader) openShell(home string) {
	in, typed, err := os.Pipe()
	require.NoError(r.t, err)
	ends, ended, err := os.Pipe()
	require.NoError(r.t, err)
	r.shell = exec.Command("bash", "--norc")
	r.shell.Dir = r.dir
	r.shell.Env = []string{"PATH=" + filepath.Join(home, "bin") + ":" + os.Getenv("PATH"), "HOME=" + home, "TZ=UTC",
		"LANG=C.UTF-8", "USER=keeper", "NO_COLOR=1"}
	r.shell.Stdin, r.shell.ExtraFiles = in, []*os.File{ended}
	r.shell.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // what runs in the background ends with it
	require.NoError(r.t, r.shell.Start())
	require.NoError(r.t, in.Close())
	require.NoError(r.t, ended.Close())
	r.in, r.ends = typed, ends
	r.t.Cleanup(func() {
		for _, x := range r.windows {
			_ = x.cmd.Process.Kill()
			_ = x.cmd.Wait()
		}
		_ = syscall.Kill(-r.shell.Process.Pid, syscall.SIGKILL)
		_ = r.shell.Wait()
	})
}

var (
	fence  = regexp.MustCompile("^```(console|sh|yaml)(?: (\\S+))?$")
	hidden = regexp.MustCompile(`^<!-- (.*) -->$`)
	typed  = regexp.MustCompile(`^(\w+)> (.*)$`)
	exits  = regexp.MustCompile(`# exit code (\d+)$`)
	here   = regexp.MustCompile(`<<'?(\w+)'?$`)
	blank  = regexp.MustCompile(`<<<(.+?)>>>`)
)

// do does what a page says, and returns it with what was printed.
func (r *reader) do(page, text string) string {
	var out []string
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	for i := 0; i < len(lines); i++ {
		out = append(out, lines[i])
		if m := hidden.FindStringSubmatch(lines[i]); m != nil {
			r.hidden(page, i+1, m[1])
			continue
		}
		m := fence.FindStringSubmatch(lines[i])
		if m == nil {
			continue
		}
		from := i + 1
		for i++; i < len(lines) && lines[i] != "```"; i++ {
		}
		block := lines[from:i]
		switch {
		case m[1] == "yaml" && m[2] != "":
			text := r.actual(strings.Join(block, "\n") + "\n")
			require.NoError(r.t, os.WriteFile(filepath.Join(r.dir, m[2]), []byte(text), 0o600))
		case m[1] == "sh":
			got, code := r.run(r.actual(strings.Join(block, "\n")))
			require.Zero(r.t, code, "%s:%d: %s", page, from, got)
		case m[1] == "console":
			block = r.console(page, from, m[2], block)
		}
		out = append(append(out, block...), "```")
	}
	return strings.Join(out, "\n") + "\n"
}

func (r *reader) hidden(page string, at int, what string) {
	if first, ok := strings.CutPrefix(what, "first: "); ok {
		name := filepath.Join(filepath.Dir(page), first)
		text, err := os.ReadFile(name)
		require.NoError(r.t, err)
		r.do(name, string(text))
		return
	}
	if m := typed.FindStringSubmatch(what); m != nil {
		r.windows[m[1]].say(r.t, r.actual(m[2]))
		return
	}
	got, code := r.run(r.actual(what))
	require.Zero(r.t, code, "%s:%d: %s\n%s", page, at, what, got)
}

// console runs the commands of a block, and returns it with what they print.
func (r *reader) console(page string, at int, name string, block []string) (now []string) {
	for i := 0; i < len(block); {
		first := i
		command := block[i]
		end := ""
		if m := here.FindStringSubmatch(command); m != nil {
			end = m[1]
		}
		for i++; i < len(block) && (strings.HasSuffix(command, "\\") || end != ""); i++ {
			command += "\n" + block[i]
			if block[i] == end {
				end = ""
			}
		}
		var shown []string
		for ; i < len(block) && !strings.HasPrefix(block[i], "$ ") && !strings.HasPrefix(block[i], "> "); i++ {
			shown = append(shown, block[i])
		}
		where := page + ":" + strconv.Itoa(at+first+1)
		command = blank.ReplaceAllStringFunc(command, func(s string) string {
			all := regexp.MustCompile(blank.FindStringSubmatch(s)[1]).FindAllStringSubmatch(r.printed, -1)
			require.NotEmpty(r.t, all, "%s: %s was not printed", where, s)
			found := r.shown(all[len(all)-1][1])
			r.known[found] = all[len(all)-1][1]
			return found
		})
		command, got := r.command(where, name, command)
		now = append(now, strings.Split(command, "\n")...)
		now = append(now, r.compare(where, shown, got)...)
	}
	return now
}

// command runs one, and returns it with what it printed.
func (r *reader) command(where, name, command string) (as, got string) {
	doing, isShell := strings.CutPrefix(command, "$ ")
	if name != "" {
		if isShell {
			r.windows[name] = r.start(r.actual(doing))
			return command, r.windows[name].next(r.t)
		}
		require.Contains(r.t, r.windows, name, where)
		return command, r.windows[name].say(r.t, r.actual(strings.TrimPrefix(command, "> ")))
	}
	require.True(r.t, isShell, "%s: a block begins with a command, after a $ and a space", where)
	want := 0
	if m := exits.FindStringSubmatch(doing); m != nil {
		want, _ = strconv.Atoi(m[1])
	}
	got, code := r.run(r.actual(doing))
	if *updatePages && want != code {
		command = strings.TrimRight(exits.ReplaceAllString(command, ""), " ")
		if code != 0 {
			command += " # exit code " + strconv.Itoa(code)
		}
		want = code
	}
	require.Equal(r.t, want, code, "%s: %s\n%s", where, command, got)
	return command, got
}

// run runs commands in the shell, and returns what they print and the exit code of the last.
func (r *reader) run(commands string) (string, int) {
	r.n++
	base := filepath.Join(filepath.Dir(r.dir), strconv.Itoa(r.n))
	require.NoError(r.t, os.WriteFile(base, []byte(commands+"\n"), 0o600))
	_, err := r.in.WriteString("source " + base + " > " + base + ".out 2> " + base + ".err < /dev/null; echo $? >&3\n")
	require.NoError(r.t, err)
	require.NoError(r.t, r.ends.SetReadDeadline(time.Now().Add(3*time.Minute)))
	b := make([]byte, 16)
	n, err := r.ends.Read(b)
	text := printedBy(base)
	require.NoError(r.t, err, "%s\n%s", commands, text)
	code, err := strconv.Atoi(strings.TrimSpace(string(b[:n])))
	require.NoError(r.t, err)
	r.printed += text
	return text, code
}

// printedBy returns what a command printed, warnings first and errors last. How far it is, which is told beside
// the results while it lasts, is left out.
func printedBy(base string) string {
	out, _ := os.ReadFile(base + ".out")
	beside, _ := os.ReadFile(base + ".err")
	var first, last strings.Builder
	for line := range strings.Lines(string(beside)) {
		switch {
		case strings.HasPrefix(line, "! "):
			first.WriteString(line)
		case !strings.HasPrefix(line, "- ") && !strings.HasPrefix(line, "  "):
			last.WriteString(line)
		}
	}
	return first.String() + string(out) + last.String()
}

// start has a command stay in a terminal of its own.
func (r *reader) start(command string) *window {
	r.n++
	x := &window{out: filepath.Join(filepath.Dir(r.dir), strconv.Itoa(r.n)+".out")}
	out, err := os.Create(x.out)
	require.NoError(r.t, err)
	defer out.Close()
	in, typed, err := os.Pipe()
	require.NoError(r.t, err)
	defer in.Close()
	x.in, x.cmd = typed, exec.Command("bash", "-c", "exec "+command)
	x.cmd.Dir, x.cmd.Env, x.cmd.Stdin, x.cmd.Stdout, x.cmd.Stderr = r.dir, r.shell.Env, in, out, out
	require.NoError(r.t, x.cmd.Start())
	return x
}

// say types a line, and returns what is printed then.
func (x *window) say(t *testing.T, line string) string {
	_, err := x.in.WriteString(line + "\n")
	require.NoError(t, err)
	return x.next(t)
}

// next returns what is printed next, up to where nothing more is for a while.
func (x *window) next(t *testing.T) string {
	var text []byte
	for began, last := time.Now(), 0; ; time.Sleep(150 * time.Millisecond) {
		all, err := os.ReadFile(x.out)
		require.NoError(t, err)
		text = all[x.at:]
		if len(text) > 0 && len(text) == last && bytes.HasSuffix(text, []byte("\n")) {
			break
		}
		require.Less(t, time.Since(began), time.Minute, "nothing was printed: %s", all)
		last = len(text)
	}
	x.at += int64(len(text))
	return string(text)
}
