package kind_test

import (
	"context"
	"fmt"
	"os"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/schema"
	"jadekettle/internal/core/value"
	"jadekettle/internal/host/kinds/kind"
	"jadekettle/internal/host/machine"
	"jadekettle/internal/host/machine/folder"
)

// flags is a kind whose things are flags at the pier: up or not.
type flags struct{}

func (flags) Schema() *schema.Kind { return &schema.Kind{Name: "flag"} }

func (flags) Read(_ context.Context, env *kind.Env, t plan.Task) (up bool, err error) {
	text, err := machine.ReadFile(env.Machine, "/srv/"+t.Ref.Name)
	return err == nil && string(text) == "up", nil
}

func (flags) Compare(_ plan.Task, up bool) []plan.Change {
	if up {
		return nil
	}
	return []plan.Change{{What: "flag", Was: "down", Becomes: "up"}}
}

func (flags) Write(_ context.Context, env *kind.Env, w kind.Differing[bool]) error {
	d, err := env.Machine.Dir("/srv")
	if err != nil {
		return err
	}
	defer d.Close()
	f, err := d.Create(w.Task.Ref.Name, 0o644, -1, -1)
	if err != nil {
		return err
	}
	defer f.Close()
	_, err = f.Write([]byte("up"))
	return err
}

// A kind reads what is there, compares it with what is declared, and writes what differs. The worker does this with it,
// and reads again what it has written.
func ExampleOne() {
	root, _ := os.MkdirTemp("", "gauge")
	defer os.RemoveAll(root)
	m, err := folder.New(root, folder.Spec{Name: "gauge-01"})
	if err != nil {
		fmt.Println(err)
		return
	}
	ctx, env, k := context.Background(), &kind.Env{Machine: m}, kind.Each(flags{})
	task := plan.Task{Ref: value.Ref{Kind: "flag", Name: "high-water"}}
	for range 2 {
		r := k.Read(ctx, env, []plan.Task{task})[0]
		changes := k.Compare(task, r.State)
		fmt.Printf("%s: %d differ\n", task.Ref, len(changes))
		if len(changes) > 0 {
			fmt.Println(k.Write(ctx, env, []kind.Work{{Task: task, State: r.State, Changes: changes}}))
		}
	}
	// Output:
	// flag high-water: 1 differ
	// [<nil>]
	// flag high-water: 0 differ
}
