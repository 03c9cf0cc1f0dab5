package kinds

import (
	"path"
	"strings"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
)

// FileOf is the file that a declaration of a part of one is about, and its name else.
func FileOf(ref value.Ref) string {
	if k, ok := Find(ref.Kind); ok && k.Schema().Part != nil {
		return k.Schema().Part(ref.Name)
	}
	return kind.FileOfPart(ref.Name)
}

// Paths gives where on the host a task keeps what it declares.
func Paths(env *kind.Env, t plan.Task) []string {
	var out []string
	if at := FileOf(t.Ref); path.IsAbs(at) {
		out = append(out, at)
	}
	if strings.HasPrefix(t.Ref.Name, "/") && len(out) > 0 && out[0] != kind.FileOfPart(t.Ref.Name) {
		out = append(out, t.Ref.Name) // a mount and a swap file are in fstab, and where they are
	}
	if k, ok := Of(t); ok {
		if keeper, ok := k.(kind.Keeper); ok {
			out = append(out, keeper.Keeps(env, t)...)
		}
	}
	return out
}
