//go:build !linux

package tempfile

import (
	"errors"
	"os"
)

func nameless(string) (*os.File, error) { return nil, errors.ErrUnsupported }
