package document

import (
	"fmt"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// Definition takes a collection's definition apart: the options it was made with, and its
// indexes as servers list them.
func Definition(def []byte) (options bson.Raw, indexes []bson.Raw, err error) {
	d, err := decodeDefinition(def)
	if err != nil {
		return nil, nil, fmt.Errorf("the definition: %w", err)
	}
	for _, ix := range d.indexes {
		indexes = append(indexes, bson.Raw(ix.spec))
	}
	return buildFields(d.options), indexes, nil
}
