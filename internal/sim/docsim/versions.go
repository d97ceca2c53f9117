package docsim

import (
	"fmt"
	"strconv"
	"strings"
)

// ServerVersions are those whose behaviour the stand-in knows, oldest first. Each differs from
// the one before in what its release notes and the manual say of it.
var ServerVersions = []string{"4.4", "5.0", "6.0", "7.0", "8.0"}

// defaultVersion is what it stands in for where nothing is said.
const defaultVersion = "7.0"

// CheckVersion returns an error where a version is not among ServerVersions.
func CheckVersion(v string) error {
	for _, known := range ServerVersions {
		if v == known || v == "" {
			return nil
		}
	}
	return fmt.Errorf("the stand-in does not know server version %q; it knows %s", v,
		strings.Join(ServerVersions, ", "))
}

// major returns the first number of the version stood in for.
func (o *Options) major() int {
	v := o.Version
	if v == "" {
		v = defaultVersion
	}
	head, _, _ := strings.Cut(v, ".")
	n, _ := strconv.Atoi(head) // the known ones are numbers
	return n
}

// version returns it as servers tell it.
func (o *Options) version() string {
	if o.Version == "" {
		return defaultVersion + ".0"
	}
	return o.Version + ".0"
}

// series reports whether there are time-series collections ("Time Series Collections": 5.0).
func (o *Options) series() bool { return o.major() >= 5 }

// indexesSeries reports whether a new time series gets an index of its metadata and its time ("Add Secondary Indexes to
// Time Series Collections": from 6.3).
func (o *Options) indexesSeries() bool { return o.major() >= 7 }

// packsBuckets reports whether the buckets of time series are compressed while they are written to ("Release Notes for
// 8.0: Time Series Collections").
func (o *Options) packsBuckets() bool { return o.major() >= 8 }

// logsEviction reports whether what a capped collection forgets is in the log ("Capped
// Collections": deletes are replicated from 5.0 on).
func (o *Options) logsEviction() bool { return o.major() >= 5 }

// renamesSharded reports whether a sharded collection can be renamed ("renameCollection": 5.0).
func (o *Options) renamesSharded() bool { return o.major() >= 5 }

// needsEnabling reports whether a database has to be enabled for sharding before a collection of
// it can be sharded ("sh.enableSharding": until 6.0).
func (o *Options) needsEnabling() bool { return o.major() < 6 }

// commitsAhead reports whether a secondary tells of entries that are on a majority before it has
// applied them ("Replica Set Oplog": from 8.0 writes are acknowledged once they are written).
func (o *Options) commitsAhead() bool { return o.major() >= 8 }
