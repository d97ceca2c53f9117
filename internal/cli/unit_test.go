package cli

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPackagedUnit holds the unit file of the packages equal to the one that daemon --unit prints.
func TestPackagedUnit(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../packaging/dexamen.service")
	require.NoError(t, err)
	require.Equal(t, fmt.Sprintf(unit, "/usr/bin/dexamen", "/etc/dexamen/dexamen.yaml"),
		strings.Replace(string(text), "Documentation=man:dexamen(1)\n", "", 1))
}
