package engine

import (
	"context"
	"errors"
)

// Loan is a login for a time, which sees only a part of a cluster.
type Loan struct {
	User, Password string
	// Part is what it sees: a database of document clusters, a namespace of key-value clusters.
	Part string
	// Write: it may also change what it sees.
	Write bool
}

// ErrOpenToAll is returned when a server lets in whoever comes, so that a login keeps nobody
// from anything.
var ErrOpenToAll = errors.New("the server asks nobody for a login, so that one would keep nobody from anything")

// Lender is a Cluster on which logins can be made.
type Lender interface {
	Cluster
	// Lend makes a login, on every member that keeps logins of its own. EndLoan takes away what it
	// made, also where it returns an error. [ErrOpenToAll] is returned when no login is asked for.
	Lend(ctx context.Context, l Loan) error
	// TryLoan logs in with it. An error is returned when it does not reach what it is for, or
	// reaches anything else, or may write and should not.
	TryLoan(ctx context.Context, l Loan) error
	// EndLoan takes a login away; one that is not there is no error.
	EndLoan(ctx context.Context, user string) error
}
