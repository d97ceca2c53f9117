//go:build servers

// Package docserver pins the real document server that the tests run against.
// It is a module of its own so that none of the server's dependencies reach
// the product; `make servers` vendors and builds it.
package docserver

import _ "github.com/FerretDB/FerretDB/cmd/ferretdb"
