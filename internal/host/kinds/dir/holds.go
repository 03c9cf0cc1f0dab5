package dir

import (
	"errors"
	"fmt"
	"io/fs"
	"path"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/host/kinds/kind"
)

// holding is how much is in a folder that goes with it.
type holding struct {
	files, folders int
	more           bool // than was counted
}

func (h *holding) add(isDir bool) {
	if isDir {
		h.folders++
	} else {
		h.files++
	}
}

// changes says how much goes.
func (h *holding) changes() []plan.Change {
	if h.files+h.folders == 0 {
		return nil
	}
	text := fmt.Sprintf("%d %s and %d %s", h.files, kind.Yes(h.files == 1, "file", "files"), h.folders,
		kind.Yes(h.folders == 1, "directory", "directories"))
	if h.more {
		text = "more than " + text
	}
	return []plan.Change{{What: "contents", Was: text, Becomes: "absent"}}
}

// count looks through a folder, up to so many things.
func (h *holding) count(env *kind.Env, at string) error {
	open := []string{at}
	for len(open) > 0 {
		folder := open[len(open)-1]
		open = open[:len(open)-1]
		d, err := env.Machine.Dir(folder)
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			return err
		}
		names, err := env.Machine.ReadDir(folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			d.Close()
			return err
		}
		for _, name := range names {
			info, err := d.Lstat(name)
			if err != nil {
				continue // it went meanwhile
			}
			if h.files+h.folders >= maxForeign {
				h.more = true
				d.Close()
				return nil
			}
			if h.add(info.Type.IsDir()); info.Type.IsDir() {
				open = append(open, path.Join(folder, name))
			}
		}
		d.Close()
	}
	return nil
}
