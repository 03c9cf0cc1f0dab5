package layers_test

import (
	"fmt"
	"testing/fstest"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/layers"
	"jadekettle/internal/core/problem"
)

// Later layers lie over earlier ones, table by table.
func Example() {
	project := fstest.MapFS{
		"data/shared.toml":          {Data: []byte("[gauge]\nsample_seconds = 60\ndatum = \"chart datum\"\n")},
		"data/site/north-pier.yaml": {Data: []byte("gauge:\n  sample_seconds: 30\n")},
	}
	var ps problem.Problems
	data := layers.Load(project, layers.Config{Layers: []string{"shared", "site/${host.site}"}}, &ps)
	host := layers.View{Vars: &expr.Vars{Host: map[string]any{"name": "gauge-01", "site": "north-pier"}}}
	tree, err := data.For(host)
	fmt.Println(tree.Values, err, ps.Err())
	steps, err := data.Explain(host, []string{"gauge", "sample_seconds"})
	for _, s := range steps {
		fmt.Println(s.Name, s.Place, s.Value, s.Used)
	}
	fmt.Println(err)
	// Output:
	// map[gauge:map[datum:chart datum sample_seconds:30]] <nil> <nil>
	// shared data/shared.toml:2:18 60 false
	// site/north-pier data/site/north-pier.yaml:2:19 30 true
	// <nil>
}
