// Package integration tests the verbs together, over every engine, on real
// servers where they exist: contracts, histories, damage, failures, soak.
package integration
