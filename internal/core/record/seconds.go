package record

import (
	"encoding/json"
	"math"
	"time"
)

// Seconds is a length of time, written in JSON as a number of seconds.
type Seconds time.Duration

// D returns it as a duration.
func (s Seconds) D() time.Duration { return time.Duration(s) }

// MarshalJSON implements [json.Marshaler], to the microsecond.
func (s Seconds) MarshalJSON() ([]byte, error) {
	return json.Marshal(math.Round(time.Duration(s).Seconds()*1e6) / 1e6)
}

// UnmarshalJSON implements [json.Unmarshaler].
func (s *Seconds) UnmarshalJSON(b []byte) error {
	var f float64
	if err := json.Unmarshal(b, &f); err != nil {
		return err
	}
	*s = Seconds(math.Round(f * 1e9))
	return nil
}
