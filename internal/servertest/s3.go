package servertest

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/stretchr/testify/require"
)

// S3Server is a real object store over a folder, with two buckets: Locked is made
// for object lock.
type S3Server struct {
	Endpoint, Bucket, Locked, Access, Secret string
	PID                                      int
}

// S3 runs the object store that `make servers` built, until the test ends.
func S3(t testing.TB) S3Server {
	t.Helper()
	bin := BuiltBinary(t, "DEXAMEN_S3SERVER", "s3server")
	dir := t.TempDir()
	for _, d := range []string{"data", "meta", "versions"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o700))
	}
	addr := FreeAddress(t)
	s := S3Server{Endpoint: "http://" + addr, Bucket: "loft", Locked: "vault", Access: "lindenholt",
		Secret: "made up for tests"}
	cmd := exec.Command(bin, "--port", addr, "--access", s.Access, "--secret", s.Secret, "--quiet", "posix",
		"--sidecar", filepath.Join(dir, "meta"), "--versioning-dir", filepath.Join(dir, "versions"),
		filepath.Join(dir, "data"))
	Run(t, "object store", cmd)
	s.PID = cmd.Process.Pid
	c, err := minio.New(addr, &minio.Options{Creds: credentials.NewStaticV4(s.Access, s.Secret, "")})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		err = c.MakeBucket(context.Background(), s.Bucket, minio.MakeBucketOptions{})
		return err == nil
	}, 20*time.Second, 50*time.Millisecond, fmt.Sprint(err))
	require.NoError(t, c.MakeBucket(context.Background(), s.Locked, minio.MakeBucketOptions{ObjectLocking: true}))
	return s
}
