package daemon

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/servertest"
)

// TestMailedReports: a report that is due is sent once, also by two daemons, and one that could not be
// sent is tried again.
func TestMailedReports(t *testing.T) {
	y := newTestEnv(t, "snapshot: every 1h")
	y.cfg.Alerts.Mail = &config.Mail{Server: "127.0.0.1:1", From: "dexamen@lindenholt.example",
		To: []string{"keeper@lindenholt.example"}, TLS: "none"}
	r, slot := config.Report{To: []string{"board@lindenholt.example"}}, time.Now().Truncate(time.Hour)
	require.Error(t, y.world().sendReport(t.Context(), r, slot, "test"), "nobody listens")
	at, letters := servertest.PostOffice(t)
	y.cfg.Alerts.Mail.Server = at
	for range 3 {
		require.NoError(t, y.world().sendReport(t.Context(), r, slot, "test"))
	}
	require.Len(t, letters, 1)
	letter := <-letters
	require.Contains(t, letter, "To: <board@lindenholt.example>")
	require.Contains(t, letter, "protection-")
	_, file, ok := strings.Cut(letter, "Content-Disposition: attachment")
	require.True(t, ok, letter)
	_, file, _ = strings.Cut(file, "\r\n\r\n")
	file, _, _ = strings.Cut(file, "\r\n\r\n")
	file, _, _ = strings.Cut(file, "\r\n--")
	page, err := base64.StdEncoding.DecodeString(strings.ReplaceAll(file, "\r\n", ""))
	require.NoError(t, err)
	require.Contains(t, string(page), "<!DOCTYPE html>")
	require.Contains(t, string(page), "meadow")
	require.NoError(t, y.world().sendReport(t.Context(), r, slot.Add(time.Hour), "test"))
	require.Len(t, letters, 1, "the next one")
}
