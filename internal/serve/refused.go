package serve

import (
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

// onlyKnown returns an error where a command asks for something that is not heeded.
func onlyKnown(r request, fields string) error {
	if fields == "*" {
		return nil
	}
	known := strings.Fields(fields)
	els, err := r.body.Elements()
	if err != nil {
		return docquery.Refuse(9, "FailedToParse", "a command that is not readable: %v", err)
	}
	for _, e := range els[1:] {
		k := e.Key()
		switch {
		case k == "collation":
			l, _ := e.Value().DocumentOK()
			if s, _ := l.Lookup("locale").StringValueOK(); len(l) > 0 && s != "simple" {
				return docquery.Refuse(238, "NotImplemented",
					"values are compared by their bytes here, and not as %s does", s)
			}
		case slices.Contains(common, k), slices.Contains(known, k):
		case harmless(e):
		default:
			return docquery.Refuse(40415, "Location40415", "%s.%s is an unknown field, or not heeded here", r.name, k)
		}
	}
	if t := r.body.Lookup("startTransaction"); t.Type != 0 {
		return docquery.Refuse(263, "OperationNotSupportedInTransaction",
			"there are no transactions here: nothing changes")
	}
	return nil
}

// harmless reports whether an option is there and off.
func harmless(e bson.RawElement) bool {
	b, ok := e.Value().BooleanOK()
	return ok && !b
}

// writes are the commands that change something.
var writes = map[string]bool{}

func init() {
	for _, w := range strings.Fields(
		`insert update delete findandmodify create drop dropdatabase createindexes dropindexes
		renamecollection collmod converttocapped bulkwrite createuser dropuser updateuser grantrolestouser createrole
		droprole shardcollection enablesharding movechunk setparameter setfeaturecompatibilityversion shutdown
		applyops clonecollectionascapped compact reindex fsync committransaction aborttransaction setprofilinglevel
		killop replsetreconfig replsetinitiate`) {
		writes[w] = true
	}
}
