package tempfile

import (
	"os"

	"golang.org/x/sys/unix"
)

// nameless makes a file that never had a name (open(2), O_TMPFILE), where the file system has that.
func nameless(dir string) (*os.File, error) {
	return os.OpenFile(dir, os.O_RDWR|unix.O_TMPFILE, 0o600)
}
