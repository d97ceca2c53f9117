package address_test

import (
	"fmt"
	"time"

	"dexamen/internal/core/address"
)

func ExampleParse() {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	a, err := address.Parse("meadow@10:14:04/apiary.*", now)
	if err != nil {
		panic(err)
	}
	fmt.Println(a.Cluster, a.When.Time, a.Pattern)
	fmt.Println(a.Match("apiary.harvests"), a.Match("market.stalls"))
	// Output:
	// meadow 2026-03-01 10:14:04 +0000 UTC apiary.*
	// true false
}

func ExampleScope() {
	s := address.Scope{"fieldnotes-%Y.%m.%d on -1d", "apiary.*", "not apiary.scratch_*"}
	today := s.At(time.Date(2026, 3, 1, 0, 30, 0, 0, time.UTC))
	fmt.Println(today)
	fmt.Println(today.Match("fieldnotes-2026.02.28"), today.Match("apiary.scratch_1"))
	// Output:
	// [fieldnotes-2026.02.28 apiary.* not apiary.scratch_*]
	// true false
}
