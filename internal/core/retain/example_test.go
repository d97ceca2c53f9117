package retain_test

import (
	"fmt"
	"time"

	"dexamen/internal/core/retain"
)

func ExampleRule_Decide() {
	day := 24 * time.Hour
	now := time.Date(2026, 3, 10, 0, 0, 0, 0, time.UTC)
	var points []retain.Point
	for i := range 8 { // every twelve hours
		at := now.Add(-time.Duration(7-i) * 12 * time.Hour)
		points = append(points, retain.Point{ID: at.Format("02T15"), Time: at, Made: at})
	}
	rule := retain.Rule{EveryMoment: day, Thin: []retain.Rung{{Each: retain.Daily, For: 10 * day}}}
	for _, v := range rule.Decide(points, now).Verdicts {
		fmt.Println(v.Point.ID, v.Keep)
	}
	// Output:
	// 06T12 true
	// 07T00 true
	// 07T12 false
	// 08T00 true
	// 08T12 false
	// 09T00 true
	// 09T12 true
	// 10T00 true
}
