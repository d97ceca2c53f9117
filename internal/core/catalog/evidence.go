package catalog

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dexamen/internal/core/blob"
	"dexamen/internal/core/sealed"
)

// ErrThere is returned when something that is written once is there already.
var ErrThere = errors.New("it is there already")

// SignedStatement is a signed statement as it lies in a store. What it says, and whether its signature is
// right, is for package evidence.
type SignedStatement struct {
	Key    string `json:"key"` // that it is signed with
	Number int64  `json:"number"`
	Line   string `json:"line"`
}

func (s *Catalog) evidenceFolder(key string) string {
	return sealed.EvidencePrefix + s.NamePart("installation", key) + "/"
}

// EvidenceName returns the name of a statement's object.
func (s *Catalog) EvidenceName(key string, number int64) string {
	return s.evidenceFolder(key) + fmt.Sprintf("%012d", number)
}

// PutEvidence keeps a statement of the installation with a key. [ErrThere] is returned where it has
// one of this number.
func (s *Catalog) PutEvidence(ctx context.Context, key string, number int64, line string) error {
	err := s.PutObject(ctx, s.ListKey(), s.EvidenceName(key, number), SignedStatement{key, number, line})
	if errors.Is(err, blob.ErrExists) {
		err = fmt.Errorf("statement %d: %w", number, ErrThere)
	}
	return err
}

// Evidence returns a statement.
func (s *Catalog) Evidence(ctx context.Context, key string, number int64) (string, error) {
	var e SignedStatement
	if err := s.GetObject(ctx, s.EvidenceName(key, number), &e); err != nil {
		return "", fmt.Errorf("statement %d of key %s: %w", number, key, err)
	}
	return e.Line, nil
}

// EvidenceNumbers returns the numbers of the statements of a key, in order.
func (s *Catalog) EvidenceNumbers(ctx context.Context, key string) (out []int64, err error) {
	folder := s.evidenceFolder(key)
	err = s.Blob.List(ctx, folder, func(i blob.Info) error {
		n, err := strconv.ParseInt(i.Name[len(folder):], 10, 64)
		if err == nil { // else it is nothing of ours
			out = append(out, n)
		}
		return nil
	})
	slices.Sort(out)
	return out, err
}

// EvidenceKeys returns the keys of which there are statements, in order.
func (s *Catalog) EvidenceKeys(ctx context.Context) (out []string, err error) {
	first := map[string][]string{} // names by folder
	err = s.Blob.List(ctx, sealed.EvidencePrefix, func(i blob.Info) error {
		folder, _, _ := strings.Cut(i.Name[len(sealed.EvidencePrefix):], "/")
		first[folder] = append(first[folder], i.Name)
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, names := range first {
		slices.Sort(names)
		var last error
		for _, n := range names { // any that can be read names the key
			var e SignedStatement
			if last = s.GetObject(ctx, n, &e); last == nil {
				out = append(out, e.Key)
				break
			}
		}
		if last != nil {
			return nil, last
		}
	}
	slices.Sort(out)
	return out, nil
}
