// Package docsim stands in for a document database.
//
// ReplicaSet stands in for a document database's replica set. It replicates
// through a log in the documented entry format, commits by majority, loses
// what was not committed when a primary is killed, forgets the log's beginning
// when it outgrows its size, and runs transactions. It keeps everything in
// memory. It does not enforce validators or plan queries by index, apart from
// _id and the uniqueness that indexes ask for.
//
// Sharded stands in for a sharded cluster: such sets as shards and as config
// servers, and routers before them. Ranges move by copying, catching up, a
// critical section and a later deletion; transactions over several shards
// commit in two phases. Started with Remember, both tell what they held at any
// past cluster time, worked out from what they did and not from their logs.
package docsim
