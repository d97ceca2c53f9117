package config

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"dexamen/internal/core/address"
)

// Duration is written as 90s, 15m, 7d.
type Duration time.Duration

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := address.ParseDistance(string(b))
	*d = Duration(v)
	return err
}

// Size is a number of bytes, written as 512KiB, 64MiB, 2GiB.
type Size int64

// UnmarshalText implements encoding.TextUnmarshaler.
func (s *Size) UnmarshalText(b []byte) error {
	text := string(b)
	for i, unit := range []string{"KiB", "MiB", "GiB", "TiB"} {
		if n, ok := strings.CutSuffix(text, unit); ok {
			v, err := strconv.ParseFloat(strings.TrimSpace(n), 64)
			if err != nil || !(v > 0 && v < 1<<20) {
				break
			}
			*s = Size(v * float64(int64(1)<<(10*(i+1))))
			return nil
		}
	}
	return fmt.Errorf("%q is no size, such as 64MiB or 2GiB", text)
}

// Rate is a number of bytes a second, written as a size a second: 64MiB/s.
type Rate int64

// UnmarshalText implements encoding.TextUnmarshaler.
func (r *Rate) UnmarshalText(b []byte) error {
	size, ok := strings.CutSuffix(string(b), "/s")
	if !ok || (*Size)(r).UnmarshalText([]byte(size)) != nil {
		return fmt.Errorf("%q is no rate, such as 64MiB/s", b)
	}
	return nil
}
