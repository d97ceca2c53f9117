package sealed_test

import (
	"context"
	"encoding/json"
	"testing"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
)

// FuzzManifest: whatever an object holds that should be a manifest, it is taken apart as it was put
// together, or is damage.
func FuzzManifest(f *testing.F) {
	good, err := sealed.EncodeManifest(nil, "points/x", map[string]any{"id": "20261123-101404-k7qx", "records": 12})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good)
	f.Add(good[:len(good)/2])
	f.Add([]byte("{}"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var v any
		if err := sealed.DecodeManifest(nil, data, "points/x", &v); err == nil {
			if _, err := json.Marshal(v); err != nil {
				t.Fatal(err)
			}
		}
	})
}

// FuzzParity: no parity, whatever it claims of itself, makes an object that is not the one it is of.
func FuzzParity(f *testing.F) {
	object := []byte("what the bees brought home on the first warm day of the year")
	good, err := sealed.EncodeParity("content/x", object, 4, 2)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(good, object)
	f.Add(good[:len(good)-3], object)
	f.Fuzz(func(t *testing.T, parity, object []byte) {
		_ = sealed.CheckParity("content/x", parity, object)
		b := blob.NewMemory()
		ctx := context.Background()
		if b.Create(ctx, "parity/content/x", parity) == nil && b.Create(ctx, "content/x", object) == nil {
			_, _ = sealed.RebuildFromParity(ctx, b, "content/x")
		}
	})
}
