package condition_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/core/condition"
)

func TestConditions(t *testing.T) {
	hive := map[string]any{"state": "collapsed", "yard": "north", "hives": int64(4), "weight": 31.5, "odd name": true,
		"queen": map[string]any{"born": time.Date(2026, 6, 2, 0, 0, 0, 0, time.UTC)}, "frames": []any{int64(3), 4.5},
		"record": "a field of this name", "gone": nil}
	for text, want := range map[string]bool{
		`state == "collapsed"`:                     true,
		`state == "thriving"`:                      false,
		`hives > 3 && hives < 4.5 && weight >= 31`: true,
		`hives == 4.0`:                             true,
		`has(queen.born) && queen.born > timestamp("2026-05-01T00:00:00Z")`: true,
		`frames.exists(f, f > 4)`:                          true,
		`yard.startsWith("nor") && yard.matches("^n.*h$")`: true,
		`record == "a field of this name"`:                 true,
		`gone == null`:                                     true,
		`nothing == 1`:                                     false,
		`state == "collapsed" || nothing == 1`:             true,
		`hives == "four"`:                                  false,
		`hives in [1, 2, 4]`:                               true,
		`size(frames) == 2`:                                true,
	} {
		c, err := condition.Compile(text)
		require.NoError(t, err, text)
		require.Equal(t, want, c.Fits(hive), text)
	}
	delete(hive, "record")
	c, err := condition.Compile(`record["odd name"] && !has(record.nothing)`)
	require.NoError(t, err)
	require.True(t, c.Fits(hive))
	require.NoError(t, c.Check())
}

// A condition that makes no sense on any record says so, instead of fitting none.
func TestConditionsThatNeverMakeSense(t *testing.T) {
	for text, says := range map[string]string{
		`stat == "collapsed"`: "stat", `hives + 1`: "int", `upper(state) == "X"`: "upper"} {
		c, err := condition.Compile(text)
		if err == nil {
			require.NoError(t, c.Check(), "nothing was tried")
			for range 3 {
				require.False(t, c.Fits(map[string]any{"state": "thriving", "hives": int64(2)}))
			}
			err = c.Check()
			require.ErrorIs(t, err, condition.ErrNeverEvaluated)
		}
		require.ErrorContains(t, err, says, text)
	}
	_, err := condition.Compile(`state == `)
	require.ErrorContains(t, err, "column")
	c, err := condition.Compile(`"` + "x" +
		`".matches("(a*)*b") || [1,2,3].all(x, [1,2,3].all(y, [1,2,3].all(z, x+y+z > 0)))`)
	require.NoError(t, err)
	require.True(t, c.Fits(nil))
}

func FuzzCompile(f *testing.F) {
	f.Add(`state == "collapsed" && hives > 3`)
	f.Add(`record["x"].exists(y, y == 1u)`)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := condition.Compile(text)
		if err != nil {
			return
		}
		c.Fits(map[string]any{"state": "x", "hives": int64(3), "x": []any{nil, 1.5, map[string]any{}}})
	})
}
