// Package workers shares the work of a job between processes, by way of NATS JetStream: what is to
// be done lies in a stream of the work-queue kind, who is there and each task's outcome in key-value
// buckets. It knows nothing of clusters and stores: what a task is, its handler knows.
//
//	open.go      the connection: servers that are configured, or one within this process (serve.go)
//	buckets.go   the stream and the buckets; what their keys are
//	task.go      a task, its tries and its outcome
//	job.go       Job: who has tasks done
//	worker.go    Worker: who does them; do.go one of them
//	presence.go  who is there
//	slots.go     bounds over all jobs
//	home.go      who sees to what
//
// A job is open as long as whoever began it says so, every few seconds. Its tasks are messages, which a consumer
// of its own hands out; its bound of unacknowledged messages is the bound of readers, over all workers.
// Who takes a task says so in the bucket, has the server wait while it works, writes the outcome into the bucket,
// and only then acknowledges. A message can so be worked on twice; a task has to be such that this does
// no harm.
package workers
