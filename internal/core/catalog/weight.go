package catalog

func (p *Point) weight() int {
	n := 1024
	for i := range p.Namespaces {
		n += 256 + len(p.Namespaces[i].Definition)
	}
	return n
}

func (r *Run) weight() int {
	n := 1024 + len(r.Error)
	for _, w := range r.Warnings {
		n += len(w)
	}
	for _, h := range r.Hooks {
		n += 200 + len(h.Output)
	}
	return n + 64*len(r.Retired)
}
