// Package docquery evaluates queries and aggregations on documents as document servers do:
// filters, projections, sorting, pipelines, expressions, by the public documentation of their
// query language. What it does not understand it refuses by name ([Error]), when a query is
// compiled and not only when a document is met; nothing is passed over.
//
//	compare.go     order and equality of values
//	path.go        dotted paths through documents and arrays
//	filter.go      Filter: which documents fit
//	operators.go   the operators of filters
//	project.go     Projection
//	sort.go        Sort
//	expression.go  expressions of aggregations; arithmetic.go, functions.go
//	stage.go       Pipeline; group.go
package docquery

import "fmt"

// Error is what a server answers to a command that it does not carry out.
type Error struct {
	Code int32
	Name string
	Msg  string
}

func (e *Error) Error() string { return e.Msg }

// Refuse returns an [Error].
func Refuse(code int32, name, format string, args ...any) error {
	return &Error{code, name, fmt.Sprintf(format, args...)}
}

func badValue(format string, args ...any) error { return Refuse(2, "BadValue", format, args...) }

func notHere(format string, args ...any) error {
	return Refuse(238, "NotImplemented", format+" is not evaluated here", args...)
}
