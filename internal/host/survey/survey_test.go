package survey_test

import (
	"context"
	"fmt"
	"testing"

	"jadekettle/internal/core/facts"
	"jadekettle/internal/core/wire"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
	"jadekettle/internal/host/machine/system"
	"jadekettle/internal/host/survey"
)

func TestFactsOfASimulatedHost(t *testing.T) {
	m, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-04", OS: "ubuntu", Address: "192.0.2.24",
		Memory: 4 << 30,
		CPUs:   3, Disk: 1 << 40})
	if err != nil {
		t.Fatal(err)
	}
	f := survey.Read(context.Background(), m, &wire.Start{Services: true})
	if err := f.Validate(); err != nil {
		t.Error(err)
	}
	got := fmt.Sprintf("%+v %+v %+v %+v %+v %+v %+v %s %s %s %+v", f.OS, f.Kernel, f.CPU, f.Memory, f.Disks, f.Mounts,
		f.Addresses, f.Hostname, f.Init, f.PackageManager, f.Services)
	want := `{ID:ubuntu Name:Ubuntu 24.04 LTS VersionID:24.04 Like:[ubuntu debian]} {Name:Linux ` +
		`Release:6.1.0-simulated} {Count:3 Model:Simulated CPU} {Total:4294967296 Swap:0} ` +
		`[{Name:vda Size:1099511627776}] [{Path:/ Device:/dev/vda1 Type:ext4 Size:1099511627776 Free:549755813888}] ` +
		`[{Address:192.0.2.24 Family:ipv4 Interface:eth0}] ` +
		`gauge-04 systemd apt map[cron:{Running:true Boot:true} ssh:{Running:true Boot:true}]`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// odd is a machine whose files are not as they should be.
type odd struct{ machine.Machine }

func (o odd) Open(string) (machine.File, error) {
	return nil, fmt.Errorf("unreadable")
}

func TestWhatCannotBeReadStaysEmpty(t *testing.T) {
	m, err := folder.New(t.TempDir(), folder.Spec{Name: "gauge-01"})
	if err != nil {
		t.Fatal(err)
	}
	f := survey.Read(context.Background(), odd{Machine: m}, &wire.Start{})
	if f.OS.ID != "" || f.Hostname != "" || len(f.Services) != 0 || len(f.Addresses) != 0 {
		t.Errorf("it claims %+v", f)
	}
}

func TestFactsOfThisMachine(t *testing.T) {
	f := survey.Read(context.Background(), system.New(), &wire.Start{})
	if err := f.Validate(); err != nil {
		t.Error(err)
	}
	if f.Kernel.Name != "Linux" || f.CPU.Count == 0 || f.Memory.Total == 0 || f.Arch == "" || f.OS.ID == "" {
		t.Errorf("this machine is %+v", *f)
	}
	var _ facts.Facts = *f
}
