//go:build servers

// Package s3server pins the real object store that the tests run against, in a
// module of its own like docserver; `make servers` builds it.
package s3server

import _ "github.com/versity/versitygw/cmd/versitygw"
