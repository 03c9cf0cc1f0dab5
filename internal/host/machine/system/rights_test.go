package system

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"jadekettle/internal/host/machine"
)

// TestAs makes and reads files as another account, on one thread only.
func TestAs(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can take on other rights")
	}
	home := filepath.Join(t.TempDir(), "home")
	secret := filepath.Join(t.TempDir(), "secret")
	for _, d := range []string{filepath.Dir(filepath.Dir(home)), filepath.Dir(home), filepath.Dir(secret)} {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.Mkdir(home, 0o755), os.Chown(home, 65534, 65534),
		os.WriteFile(secret, []byte("x"), 0o640)); err != nil {
		t.Fatal(err)
	}
	s, them := New(), machine.Rights{Name: "nobody", UID: 65534, GID: 65534}
	d, err := s.Dir(home)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	err = s.As(them, func() error {
		if err := d.Mkdir("keys", 0o700, -1, -1); err != nil {
			return err
		}
		f, err := d.Create("note", 0o600, -1, -1)
		if err != nil {
			return err
		}
		f.Close()
		if _, err := os.ReadFile(secret); !errors.Is(err, fs.ErrPermission) {
			t.Errorf("root's file can be read: %v", err)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"keys", "note"} {
		if info, err := d.Lstat(name); err != nil || info.UID != 65534 || info.GID != 65534 {
			t.Errorf("%s is %+v (%v)", name, info, err)
		}
	}
	if _, err := os.ReadFile(secret); err != nil || acting() != 0 {
		t.Errorf("root has lost its rights: %v, acting as %d", err, acting())
	}
}
