// Package sim holds stand-ins for database servers: programs that speak the
// real wire protocol on loopback ports, for trying Dexamen out and for testing
// it where the real servers cannot be had.
//
// A stand-in behaves as the servers' public documentation says; sections are
// named in comments. It shares no code with the adapters it tests: what it
// knows of the protocol comes from the driver's wire-message library, and what
// it knows of documents is written here again.
//
//	docsim     a document database's replica sets and sharded clusters
//	searchsim  a search cluster
//	s3sim      an object store
package sim
