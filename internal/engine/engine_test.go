package engine_test

import (
	"testing"

	_ "dexamen/internal/engine/all"

	"github.com/stretchr/testify/require"

	"dexamen/internal/engine"
)

func TestNearestNames(t *testing.T) {
	all := []string{"apiary.colonies", "apiary.harvests", "apiary.harvests_2025", "apiary.inspections",
		"apiary.keepers"}
	for name, want := range map[string][]string{
		"apiary.harvest":  {"apiary.harvests", "apiary.harvests_2025"},
		"harvests":        {"apiary.harvests", "apiary.harvests_2025"},
		"apiary.keeprs":   {"apiary.keepers"},
		"Apiary.Colonies": {"apiary.colonies"},
		"zoo.animals":     nil,
	} {
		require.Equal(t, want, engine.Nearest(name, all, 3), name)
	}
	require.Len(t, engine.Nearest("apiary.harvest", all, 1), 1)
}

func TestAddressesHideSecrets(t *testing.T) {
	require.Equal(t, "mongodb://u:xxxxx@h:1/", engine.Redact("mongodb://u:secret@h:1/"))
	require.NotContains(t, engine.Redact("mongodb://u:secret@h1:1,h2:%zz/"), "secret")
	require.Equal(t, "mongodb://h/?replicaSet=x", engine.Redact("mongodb://h/?replicaSet=x"))
}

func TestEnginesAreFoundByScheme(t *testing.T) {
	name, d, err := engine.ForAddress("mongodb://h/")
	require.NoError(t, err)
	require.Equal(t, "document", name)
	same, err := engine.ForName(name)
	require.NoError(t, err)
	require.Equal(t, d, same)
	_, _, err = engine.ForAddress("tape://u:secret@h/")
	require.ErrorContains(t, err, "begins with none of the known schemes: ")
	require.NotContains(t, err.Error(), "secret")
	_, err = engine.ForName("tape")
	require.ErrorContains(t, err, "no engine \"tape\"")
}
