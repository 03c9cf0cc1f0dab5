package guard

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"

	"jadekettle/internal/host/kinds"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
)

// What a guard writes down at most.
const (
	maxSaved = 8 << 20 // bytes, of one file and of a whole folder
	maxFiles = 4096    // files and folders in a folder
)

// saveAll reads what is there at all paths of a scope, and in its folders.
func saveAll(env *kind.Env, s kinds.Scope) ([]saved, error) {
	var out []saved
	for _, p := range s.Paths {
		f, err := save(env, p)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	for _, p := range s.Trees {
		list, err := saveTree(env, p, maxSaved, maxFiles)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	return out, nil
}

// saveTree reads a folder with all that is in it, in at most so many bytes and files: what is above comes first.
func saveTree(env *kind.Env, p string, bytes, files int) ([]saved, error) {
	f, err := save(env, p)
	if err != nil {
		return nil, err
	}
	out := []saved{f}
	if !f.Type.IsDir() {
		return out, nil
	}
	names, err := env.Machine.ReadDir(p)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		inside, err := saveTree(env, path.Join(p, name), bytes, files-len(out))
		if err != nil {
			return nil, err
		}
		for _, f := range inside {
			bytes -= len(f.Data)
		}
		if out = append(out, inside...); bytes < 0 || len(out) > files {
			return nil, fmt.Errorf("%s contains more than %d files or %d MB", p, maxFiles, maxSaved>>20)
		}
	}
	return out, nil
}

// save reads what is there at a path.
func save(env *kind.Env, p string) (saved, error) {
	out := saved{Path: p, Type: fs.ModeIrregular}
	d, name, err := env.Split(p)
	if errors.Is(err, kind.ErrNotYet) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer d.Close()
	info, err := d.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Type, out.Mode, out.UID, out.GID = info.Type, info.Mode, info.UID, info.GID
	switch {
	case info.Type&fs.ModeSymlink != 0:
		out.To, err = d.Readlink(name)
	case info.Type.IsRegular(), info.Type.IsDir():
		out.Data, out.Extras, err = read(d, name, info.Type.IsRegular())
	}
	return out, err
}

// read reads a file or a folder: what it holds, where that is asked for, and its extended attributes.
func read(d machine.Dir, name string, holds bool) (data []byte, extras map[string][]byte, err error) {
	f, err := d.Open(name)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	if extras, err = f.Extras(); err != nil || !holds {
		return nil, extras, err
	}
	data, err = io.ReadAll(io.LimitReader(f, maxSaved+1))
	if err == nil && len(data) > maxSaved {
		err = errors.New("it is too large to be saved")
	}
	return data, extras, err
}
