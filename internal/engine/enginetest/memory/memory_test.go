package memory_test

import (
	"fmt"
	"testing"

	"dexamen/internal/engine"
	"dexamen/internal/engine/enginetest"
	"dexamen/internal/engine/enginetest/memory"
)

func TestConformance(t *testing.T) {
	enginetest.Run(t, func(t *testing.T) *enginetest.Fixture {
		s := memory.Start("heath", "made up")
		s.Put("colonies", "000000=first")
		s.Remove("colonies", "000000")
		target := engine.Target{Name: "heath", Address: "memory://heath", Secret: "made up"}
		wrong := target
		wrong.Secret = "mistyped"
		return &enginetest.Fixture{
			Target: target, WrongLogin: &wrong, Driver: memory.Driver{}, Namespace: "colonies",
			Other: "colonies_restored", Log: true,
			Put:    func(_ testing.TB, ns string, n int, text string) { s.Put(ns, fmt.Sprintf("%06d=%s", n, text)) },
			Remove: func(_ testing.TB, ns string, n int) { s.Remove(ns, fmt.Sprintf("%06d", n)) },
			Drop:   func(_ testing.TB, ns string) { s.Drop(ns) },
			Forget: func(testing.TB) { s.Forget() },
		}
	})
}
