// Package store opens stores: what trees, journals and points of clusters are kept
// in. It is the façade of four packages:
//
//	sealed   objects as they lie in their place: frames, keys, parity, locks, claims
//	content  nodes of trees in content files
//	catalog  points, logs, runs, holds, proofs
//	upkeep   scrub, repair, retention, reclaim, mirror
//
// A store is the only truth: everything Dexamen knows of what it protects can be had
// back from a store alone. Objects are created once and never changed. A point is
// written last: until it is there nothing of the attempt exists for anyone, and the
// nodes it wrote are found and used by the next attempt. The layout is specified in
// docs/reference/format.md.
package store
