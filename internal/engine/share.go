package engine

// Shareable is a Cluster of which connections of several processes can read one state, each some
// partitions.
type Shareable interface {
	Cluster
	// Share returns what a connection of another process has to know to read what this one reads:
	// a few hundred bytes that hold no secret and no address.
	Share() ([]byte, error)
	// Join returns the cluster as whoever called Share reads it: nothing older is read from then on, and
	// where it is pinned, nothing newer. Who shares work calls it, too, with what those who did it
	// have seen: what it knows afterwards of the log's end is no older than what they have read.
	Join(shared []byte) (Cluster, error)
	// EncodePartition and DecodePartition carry a partition from one process to another.
	EncodePartition(p Partition) ([]byte, error)
	DecodePartition(b []byte) (Partition, error)
}
