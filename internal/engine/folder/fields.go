package folder

import (
	"fmt"
	"path"
	"time"

	"dexamen/internal/engine/folder/files"
)

// KeysNamed implements [engine.Inspector]: a text is a file's path below the folder.
func (model) KeysNamed(_, text string) [][]byte { return [][]byte{files.Prefix(path.Clean(text))} }

// Fields implements [engine.Inspector]: path, kind, size, mode (as 0644), owner (as
// 1000:1000), written, target; pieces of a file's content have none.
func (model) Fields(value []byte) (map[string]any, bool, error) {
	it, err := files.Parse(value)
	if err != nil || it.Piece {
		return nil, false, err
	}
	return map[string]any{"path": it.Path, "kind": it.Kind.String(), "size": it.Size,
		"mode": fmt.Sprintf("%04o", it.Mode), "owner": fmt.Sprint(it.UID, ":", it.GID),
		"written": time.Unix(0, it.MTime).UTC(), "target": it.Target}, true, nil
}
