package calendar_test

import (
	"fmt"
	"time"

	"dexamen/internal/core/address"
	"dexamen/internal/core/calendar"
)

func ExampleSchedule_Next() {
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		panic(err)
	}
	nightly, err := calendar.ParseSchedule("15 2 * * *", berlin, address.ParseDistance)
	if err != nil {
		panic(err)
	}
	// Clocks skip the hour from two to three: it is due at the end of it.
	at := time.Date(2026, 3, 28, 12, 0, 0, 0, berlin)
	for range 3 {
		at = nightly.Next(at)
		fmt.Println(at)
	}
	// Output:
	// 2026-03-29 03:00:00 +0200 CEST
	// 2026-03-30 02:15:00 +0200 CEST
	// 2026-03-31 02:15:00 +0200 CEST
}
