// Package tree keeps a namespace's content as a content-cut Merkle tree:
// records sorted by key, cut into leaves where a hash of the key says so,
// inner nodes over them up to one root.
//
// The build is deterministic. The same records give the same root, whoever
// builds it and however they got there: by a Builder fed in order, or by a
// Merge of an older tree with edits. So equal roots mean equal content, a
// difference costs time in proportion to itself (Diff), and a leaf that has
// not changed is never stored twice.
//
//	           inner  (level 1..)     hash, records, bytes, last key  per child
//	         /       \
//	     leaf         leaf            shared-prefix-coded keys, raw values
//	   /  |  \          |  \
//	rec  rec  rec     rec  value of 20 MiB -> pieces
//
// Nodes are named by BLAKE3 of their bytes and written to a Sink; how a sink
// stores them (in full, or as a patch against another leaf: see [EncodePatch])
// is no part of what they are.
package tree
