package expr_test

import (
	"fmt"

	"jadekettle/internal/core/expr"
	"jadekettle/internal/core/value"
)

func at(offset int) value.Place {
	return value.Place{File: "manifests/gauge.toml", Line: 1, Col: offset + 1}
}

// An expression is compiled once and evaluated for every host.
func ExampleCompile() {
	p, err := expr.Compile(`data.gauge.sample_seconds * 2`, at, expr.Scope{})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, seconds := range []int64{15, 60} {
		v, err := p.Eval(&expr.Vars{Data: map[string]any{"gauge": map[string]any{"sample_seconds": seconds}}})
		fmt.Println(v, err)
	}
	_, err = p.Eval(&expr.Vars{Data: map[string]any{"gauge": map[string]any{"sampel_seconds": int64(1)}}})
	fmt.Println(err)
	// Output:
	// 30 <nil>
	// 120 <nil>
	// manifests/gauge.toml:1:1: unknown key "sample_seconds" in data.gauge; did you mean "sampel_seconds"?
}

// A text that is one ${...} keeps the value's type.
func ExampleParseText() {
	vars := &expr.Vars{Host: map[string]any{"name": "gauge-01", "ports": []any{int64(80), int64(443)}}}
	for _, s := range []string{"This is ${host.name}.", "${host.ports}", "$${HOME}"} {
		text, err := expr.ParseText(s, at, "", expr.Scope{})
		if err != nil {
			fmt.Println(err)
			continue
		}
		v, err := text.Eval(vars)
		fmt.Printf("%T %v %v\n", v, v, err)
	}
	// Output:
	// string This is gauge-01. <nil>
	// []interface {} [80 443] <nil>
	// string ${HOME} <nil>
}

// What an expression makes of a secret is one.
func ExampleProgram_Eval_secret() {
	data := map[string]any{"relay": map[string]any{"token": value.NewSecret("rip-tide"), "port": int64(7001)}}
	vars := &expr.Vars{Data: data, Secrets: expr.SecretPaths("data", data)}
	for _, s := range []string{`data.relay.token + "!"`, `data.relay.port`, `size(data.relay.token)`} {
		p, err := expr.Compile(s, at, expr.Scope{})
		if err != nil {
			fmt.Println(err)
			continue
		}
		v, err := p.Eval(vars)
		fmt.Println(v, err)
	}
	// Output:
	// (secret) <nil>
	// 7001 <nil>
	// (secret) <nil>
}
