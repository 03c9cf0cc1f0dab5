package worker

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"io/fs"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/wire"
)

// digestKey is where the key lies with which declarations are digested. It never leaves the host,
// so that nobody who has a digest can try secrets on it.
const digestKey = "digest-key.json"

// digester makes digests of declarations; nil makes none.
type digester struct{ key []byte }

// digester reads the host's key, or makes one.
func (r *runner) digester() (*digester, error) {
	var d digester
	err := r.store.Recall(digestKey, &d.key)
	if err == nil && len(d.key) == sha256.Size {
		return &d, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	d.key = make([]byte, sha256.Size)
	rand.Read(d.key)
	return &d, r.store.Remember(digestKey, d.key)
}

// of digests all that a task declares: its attributes whole, secrets too, what it is to hold, and
// the program of its kind.
func (d *digester) of(t plan.Task, all []plan.Task) ([]byte, error) {
	text, err := wire.Canonical(t, all)
	if err != nil {
		return nil, err
	}
	h := hmac.New(sha256.New, d.key)
	h.Write(text)
	return h.Sum(nil), nil
}
