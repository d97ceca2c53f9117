package workers

import (
	"hash/fnv"
	"io"
	"math"
	"math/bits"
)

// Home returns which of the workers that plan sees to something, such as a cluster: the same whoever asks, as long
// as they see the same workers. Each has a share by how much it does at once, and where one goes or comes only what was
// its own, or becomes so, changes hands. May, where not nil, says which may do it; where none may it is
// one of the others, who then says so. The result is an [Info.Instance]; empty where nobody plans.
func Home(key string, list []Info, may func(*Info) bool) string {
	best, most := "", math.Inf(-1)
	for _, all := range []bool{false, true} {
		for i := range list {
			w := &list[i]
			if !w.Plans || w.Draining || !all && may != nil && !may(w) {
				continue
			}
			if s := w.score(key); s > most || s == most && w.Instance < best {
				best, most = w.Instance, s
			}
		}
		if best != "" || may == nil {
			break
		}
	}
	return best
}

// score is how well a worker goes with a key: the highest of some has a chance in proportion to what it
// does at once.
func (i *Info) score(key string) float64 {
	h := fnv.New64a()
	_, _ = io.WriteString(h, i.Name)
	_, _ = h.Write([]byte{0})
	_, _ = io.WriteString(h, key)
	x := (float64(mixed(h.Sum64())>>11) + 0.5) / (1 << 53) // evenly between 0 and 1
	return -float64(max(1, i.Parallel)) / math.Log(x)
}

// mixed spreads what differs in few bits over all of them: by rounds of multiplying and folding.
func mixed(x uint64) uint64 {
	for range 3 {
		hi, lo := bits.Mul64(x, 0x9e3779b97f4a7c15)
		x = hi ^ lo
	}
	return x
}

// CanWork reports whether a worker may work for a cluster with a store: it has the labels, and has not found
// that it reaches one of the two not.
func (i *Info) CanWork(cluster, storeName string, only map[string]string) bool {
	for k, v := range only {
		if i.Labels[k] != v {
			return false
		}
	}
	return len(i.Cannot) == 0 || i.Cannot["store "+storeName] == "" && i.Cannot["cluster "+cluster] == ""
}
