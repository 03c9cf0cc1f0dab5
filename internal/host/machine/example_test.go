package machine_test

import (
	"fmt"
	"os"

	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
)

// A kind touches a host through a Machine alone, which here is a directory that replaces one. It opens folders
// along the path, with no link followed that a stranger could have made, and then works inside them.
func ExampleMachine() {
	root, err := os.MkdirTemp("", "gauge")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer os.RemoveAll(root)
	m, err := folder.New(root, folder.Spec{Name: "gauge-01"})
	if err != nil {
		fmt.Println(err)
		return
	}
	etc, err := m.Dir("/etc")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer etc.Close()
	f, err := etc.Create("tide-logger.conf", 0o640, -1, -1)
	if err != nil {
		fmt.Println(err)
		return
	}
	f.Write([]byte("interval = 6\n"))
	f.Close()
	text, err := machine.ReadFile(m, "/etc/tide-logger.conf")
	fmt.Printf("%s%v\n", text, err)
	// Output:
	// interval = 6
	// <nil>
}
