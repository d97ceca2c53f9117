package record

// Kind describes what a namespace holds. Engines have kinds of content of their own
// ("collection", "keys"); the kinds here mean the same in every engine.
type Kind string

// The kinds that every engine shares.
const (
	// KindView is of content that has a definition and no records.
	KindView Kind = "view"
	// KindSettings is of users, roles and what else is set for a whole cluster.
	KindSettings Kind = "settings"
	// KindLayout is of where the parts of a sharded cluster's content are.
	KindLayout Kind = "layout"
	// KindSupport is of what records of content refer to.
	KindSupport Kind = "support"
)

// IsContent reports whether a namespace of this kind is content, rather than
// about it.
func (k Kind) IsContent() bool { return k != KindSettings && k != KindLayout && k != KindSupport }

// HasRecords reports whether a namespace of this kind has records.
func (k Kind) HasRecords() bool { return k != KindView }
