// Package store keeps trees, journals and points in a blob backend. It is the
// only truth: everything Dexamen knows of what it protects can be had back
// from a store alone.
//
//	dexamen-store                        what this store is
//	content files/ab/abcd…                       frames holding tree nodes, a list of them at the end
//	index/…                              the lists of content files again, for quick opening
//	points/CLUSTER/ID                    one restore point
//	journal/CLUSTER/SHARD/POSITION       one stretch of a shard's log, named by where it begins
//
// Objects are created once and never changed. A point is written last: until
// it is there nothing of the attempt exists for anyone, and the nodes it wrote
// are found and used by the next attempt. The layout is specified in
// docs/format.md.
package store
