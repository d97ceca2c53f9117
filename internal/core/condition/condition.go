// Package condition evaluates conditions on records, written in the Common Expression
// Language (cel.dev).
//
//	state == "collapsed" && hives > 3
//	has(record.queen) && record.queen.born > timestamp("2026-05-01T00:00:00Z")
//	record["odd name"].exists(x, x.startsWith("north"))
//
// A field is named by itself, or as record.NAME. A record that has no such field, or one of
// another type, does not fit.
package condition

import (
	"errors"
	"fmt"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/ext"
)

// Condition is a compiled expression. It may be used from one goroutine at a time.
type Condition struct {
	text string
	prog cel.Program
	// Tried counts records; Failed those on which the expression could not be evaluated, and
	// Reason says why, of the last.
	tried, failed int64
	reason        error
	fields        activation
}

// maxCost bounds what one record may cost, in CEL's units.
const maxCost = 1_000_000

// Compile reads an expression. Its error points at what is wrong.
func Compile(text string) (*Condition, error) {
	env, err := cel.NewEnv(cel.CrossTypeNumericComparisons(true), cel.OptionalTypes(), ext.Strings(), ext.Math(),
		ext.Lists(), ext.Sets(), ext.Encoders())
	if err != nil {
		return nil, err
	}
	ast, issues := env.Parse(text)
	if issues != nil && issues.Err() != nil {
		return nil, fmt.Errorf("condition %q: %s; conditions are written as in yard == \"north\" && kg > 7.5", text,
			strings.TrimSpace(firstIssue(issues)))
	}
	// Not checked: which fields there are only records tell.
	prog, err := env.Program(ast, cel.CostLimit(maxCost))
	if err != nil {
		return nil, fmt.Errorf("condition %q: %w", text, err)
	}
	return &Condition{text: text, prog: prog}, nil
}

func firstIssue(issues *cel.Issues) string {
	for _, e := range issues.Errors() {
		return fmt.Sprintf("column %d: %s", e.Location.Column()+1, e.Message)
	}
	return issues.Err().Error()
}

// String returns the expression.
func (c *Condition) String() string { return c.text }

// Fits reports whether a record with these fields fits.
func (c *Condition) Fits(fields map[string]any) bool {
	c.tried++
	c.fields.of = fields
	v, _, err := c.prog.Eval(&c.fields)
	if err == nil {
		if b, ok := v.(types.Bool); ok {
			return bool(b)
		}
		err = fmt.Errorf("it gives %s, and not true or false", v.Type().TypeName())
	}
	c.failed++
	c.reason = err
	return false
}

// ErrNeverEvaluated is returned when a condition could be evaluated on no record.
var ErrNeverEvaluated = errors.New("it could be evaluated on no record")

// Check returns [ErrNeverEvaluated] where records were tried, and the expression made no
// sense on any: a misspelled field must not look as if nothing fitted.
func (c *Condition) Check() error {
	if c.tried == 0 || c.failed < c.tried {
		return nil
	}
	return fmt.Errorf("condition %q: %w of %d, the last time because: %w", c.text, ErrNeverEvaluated, c.tried, c.reason)
}

// activation gives an expression a record's fields.
type activation struct{ of map[string]any }

// ResolveName implements [cel.Activation].
func (a *activation) ResolveName(name string) (any, bool) {
	if v, ok := a.of[name]; ok {
		return v, true
	}
	if name == "record" {
		return a.of, true
	}
	return nil, false
}

// Parent implements [cel.Activation].
func (a *activation) Parent() cel.Activation { return nil }
