package integration_test

import "os"

// long returns the size of a test as make test-long runs it, short that of make
// test.
func long(long, short int) int {
	if os.Getenv("DEXAMEN_LONG") != "" {
		return long
	}
	return short
}
