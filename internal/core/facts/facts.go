// Package facts defines what is read from a host before a run: one typed,
// documented tree. Expressions and templates see it under the names in the
// cbor tags, so facts.os.version_id is Facts.OS.VersionID.
package facts

import (
	"fmt"
	"math"
	"reflect"
	"strings"

	"jadekettle/internal/core/problem"
)

// Facts is everything that is known of a host. Sizes are bytes.
type Facts struct {
	OS             OS                 `cbor:"os" doc:"The operating system, from os-release."`
	Kernel         Kernel             `cbor:"kernel" doc:"The kernel."`
	Arch           string             `cbor:"arch" doc:"The processor architecture by its Go name: amd64, arm64, ..."`
	CPU            CPU                `cbor:"cpu" doc:"The processors."`
	Memory         Memory             `cbor:"memory" doc:"The memory."`
	Disks          []Disk             `cbor:"disks" doc:"Whole disks, by name."`
	Mounts         []Mount            `cbor:"mounts" doc:"Mounted file systems that hold files, by path."`
	Addresses      []Address          `cbor:"addresses" doc:"Addresses of the host's interfaces, without loopback."`
	Hostname       string             `cbor:"hostname" doc:"The host's own name."`
	Init           string             `cbor:"init" doc:"The init system: systemd, or the name of process 1."`
	PackageManager string             `cbor:"package_manager" doc:"apt, dnf, apk, pacman, zypper, or empty."`
	Services       map[string]Service `cbor:"services" doc:"Service units that are loaded, by name without .service."`
	MachineID      string             `cbor:"machine_id" doc:"The identity from /etc/machine-id."`
	Own            map[string]any     `cbor:"own" doc:"Custom facts, by name."`
	OwnWrong       map[string]string  `cbor:"own_wrong" doc:"Errors of custom facts that could not be read, by name."`
}

// OS is what os-release(5) says.
type OS struct {
	ID        string   `cbor:"id" doc:"Lower-case name, such as debian."`
	Name      string   `cbor:"name" doc:"Display name."`
	VersionID string   `cbor:"version_id" doc:"Version, such as 12; text, since it may hold dots."`
	Like      []string `cbor:"like" doc:"Its own id, followed by those of the systems it derives from."`
}

// Kernel is what uname reports.
type Kernel struct {
	Name    string `cbor:"name" doc:"Linux."`
	Release string `cbor:"release" doc:"Release, such as 6.1.0-18-amd64."`
}

// CPU is read from /proc/cpuinfo.
type CPU struct {
	Count int64  `cbor:"count" doc:"Number of logical processors."`
	Model string `cbor:"model" doc:"Model name; may be empty."`
}

// Memory is read from /proc/meminfo.
type Memory struct {
	Total int64 `cbor:"total" doc:"Memory in bytes."`
	Swap  int64 `cbor:"swap" doc:"Swap space in bytes."`
}

// Disk is one whole disk from /sys/block.
type Disk struct {
	Name string `cbor:"name" doc:"Device name, such as sda."`
	Size int64  `cbor:"size" doc:"Size in bytes."`
}

// Mount is one line of /proc/mounts that is backed by a device or the network.
type Mount struct {
	Path   string `cbor:"path" doc:"Where it is mounted."`
	Device string `cbor:"device" doc:"What is mounted."`
	Type   string `cbor:"type" doc:"File system type."`
	Size   int64  `cbor:"size" doc:"Size in bytes."`
	Free   int64  `cbor:"free" doc:"Bytes free for ordinary users."`
}

// Address is one address of one interface.
type Address struct {
	Address   string `cbor:"address" doc:"The address, such as 192.0.2.21 or 2001:db8::21."`
	Family    string `cbor:"family" doc:"ipv4 or ipv6."`
	Interface string `cbor:"interface" doc:"Name of the interface; empty if unknown."`
}

// Service is one loaded service unit.
type Service struct {
	Running bool `cbor:"running" doc:"Whether it runs now."`
	Boot    bool `cbor:"boot" doc:"Whether it starts at boot."`
}

// Field is one entry of the facts' schema.
type Field struct {
	Path string // dotted, from below facts; list items as [], map entries as *
	Type string // text, int, bool, list, map or table
	Doc  string
}

// Schema lists every field, a table before what is in it.
func Schema() []Field {
	var out []Field
	walk(reflect.TypeFor[Facts](), "", &out)
	return out
}

func walk(t reflect.Type, prefix string, out *[]Field) {
	for i := range t.NumField() {
		f := t.Field(i)
		path := prefix + f.Tag.Get("cbor")
		name, inner := describe(f.Type)
		*out = append(*out, Field{path, name, f.Tag.Get("doc")})
		switch name {
		case "table":
			walk(inner, path+".", out)
		case "list":
			if inner.Kind() == reflect.Struct {
				walk(inner, path+"[].", out)
			}
		case "map":
			if inner.Kind() == reflect.Struct {
				walk(inner, path+".*.", out)
			}
		}
	}
}

func describe(t reflect.Type) (string, reflect.Type) {
	switch t.Kind() {
	case reflect.String:
		return "string", nil
	case reflect.Int64:
		return "int", nil
	case reflect.Bool:
		return "bool", nil
	case reflect.Slice:
		return "list", t.Elem()
	case reflect.Map:
		return "map", t.Elem()
	}
	return "table", t
}

// CheckPath says whether the fields a.b.c may be selected below facts. It
// stops at a list, whose items it cannot follow, and accepts any key of a map.
func CheckPath(path []string) error {
	t := reflect.TypeFor[Facts]()
	for i, name := range path {
		switch t.Kind() {
		case reflect.Interface:
			return nil // what a command said may have any form
		case reflect.Map:
			t = t.Elem()
			continue
		case reflect.Slice:
			return problem.Errorf("facts.%s is a list and does not have %q", strings.Join(path[:i], "."), name).
				Remedy("select items of it first")
		case reflect.Struct:
		default:
			return problem.Errorf("facts.%s has no keys", strings.Join(path[:i], ".")).
				Remedy("remove .%s", name)
		}
		next, names := fieldNamed(t, name)
		if next == nil {
			at := strings.Join(append([]string{"facts"}, path[:i]...), ".")
			return problem.Errorf("unknown key %[2]q in %[1]s", at, name).Meant(name, names,
				"available: "+strings.Join(names, ", "))
		}
		t = next
	}
	return nil
}

// TypeOf says what the field a.b.c below facts is: text, int, bool, list, map or table; empty for
// what is not known, such as what a command said.
func TypeOf(path []string) string {
	t := reflect.TypeFor[Facts]()
	for _, name := range path {
		switch t.Kind() {
		case reflect.Map:
			t = t.Elem()
		case reflect.Struct:
			if t, _ = fieldNamed(t, name); t == nil {
				return ""
			}
		default:
			return ""
		}
	}
	if t.Kind() == reflect.Interface {
		return ""
	}
	is, _ := describe(t)
	return is
}

func fieldNamed(t reflect.Type, name string) (reflect.Type, []string) {
	var names []string
	for i := range t.NumField() {
		tag := t.Field(i).Tag.Get("cbor")
		if tag == name {
			return t.Field(i).Type, nil
		}
		names = append(names, tag)
	}
	return nil, names
}

// Tree gives the facts as a tree of plain values, for expressions and
// templates; nil when there are none.
func (f *Facts) Tree() map[string]any {
	if f == nil {
		return nil
	}
	return tree(reflect.ValueOf(*f)).(map[string]any)
}

func tree(v reflect.Value) any {
	switch v.Kind() {
	case reflect.Interface:
		if v.IsNil() {
			return nil
		}
		return tree(v.Elem())
	case reflect.Struct:
		out := make(map[string]any, v.NumField())
		for i := range v.NumField() {
			out[v.Type().Field(i).Tag.Get("cbor")] = tree(v.Field(i))
		}
		return out
	case reflect.Slice:
		out := make([]any, v.Len())
		for i := range out {
			out[i] = tree(v.Index(i))
		}
		return out
	case reflect.Map:
		out := make(map[string]any, v.Len())
		for it := v.MapRange(); it.Next(); {
			out[it.Key().String()] = tree(it.Value())
		}
		return out
	}
	return v.Interface()
}

// Limits on what a host may claim, so that a host that lies cannot fill the
// controller's memory.
const (
	maxText  = 4096
	maxList  = 4096
	maxDepth = 24
)

// Validate checks facts that came from a host: no control characters, no
// endless texts or lists.
func (f *Facts) Validate() error { return validate(reflect.ValueOf(*f), "facts") }

func validate(v reflect.Value, at string) error { return validateTo(v, at, maxDepth) }

// validateTo is validate for what is at most so deep.
func validateTo(v reflect.Value, at string, depth int) error {
	if depth == 0 {
		return fmt.Errorf("%s is nested too deeply", at)
	}
	validate := func(v reflect.Value, at string) error { return validateTo(v, at, depth-1) }
	switch v.Kind() {
	case reflect.Interface:
		switch own := v.Interface().(type) {
		case nil, bool, int64: // a custom number may be below 0
			return nil
		case float64:
			if !math.IsNaN(own) && !math.IsInf(own, 0) {
				return nil
			}
		case string, []any, map[string]any:
			return validate(v.Elem(), at)
		}
		return fmt.Errorf("%s is not a string, a number, a list or a table", at) // CBOR has dates and more
	case reflect.String:
		return validText(v.String(), at)
	case reflect.Int64:
		if v.Int() < 0 {
			return fmt.Errorf("%s is negative", at)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if err := validate(v.Field(i), at+"."+v.Type().Field(i).Tag.Get("cbor")); err != nil {
				return err
			}
		}
	case reflect.Slice:
		if v.Len() > maxList {
			return fmt.Errorf("%s has %d items, more than %d", at, v.Len(), maxList)
		}
		for i := range v.Len() {
			if err := validate(v.Index(i), at); err != nil {
				return err
			}
		}
	case reflect.Map:
		if v.Len() > maxList {
			return fmt.Errorf("%s has %d entries, more than %d", at, v.Len(), maxList)
		}
		for it := v.MapRange(); it.Next(); {
			key := it.Key()
			if key.Kind() == reflect.Interface {
				key = key.Elem()
			}
			if key.Kind() != reflect.String {
				return fmt.Errorf("%s has a key that is not a string", at)
			}
			if err := validText(key.String(), at); err != nil {
				return err
			}
			if it.Value().Kind() != reflect.Interface && it.Value().Kind() != reflect.String {
				continue
			}
			if err := validate(it.Value(), at+"."+key.String()); err != nil {
				return err
			}
		}
	}
	return nil
}

func validText(s, at string) error {
	if len(s) > maxText {
		return fmt.Errorf("%s is %d bytes long, more than %d", at, len(s), maxText)
	}
	if strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return fmt.Errorf("%s contains control characters", at)
	}
	return nil
}
