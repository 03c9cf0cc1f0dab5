package document_test

import (
	"fmt"
	"io"
	"testing"

	"jadekettle/internal/core/plan"
	"jadekettle/internal/core/record"
	"jadekettle/internal/present/document"
)

// BenchmarkWrite writes the document of a run of 1,000 hosts with 100 tasks each.
func BenchmarkWrite(b *testing.B) {
	r := &record.Run{}
	for i := range 1000 {
		h := &record.Host{Name: fmt.Sprintf("gauge-%03d", i)}
		for j := range 100 {
			h.Tasks = append(h.Tasks, record.Task{ID: j, Kind: "file", Name: "/etc/motd", Status: plan.Unchanged})
		}
		r.Hosts = append(r.Hosts, h)
	}
	report := document.NewReport(r)
	for b.Loop() {
		if err := document.Write(io.Discard, report); err != nil {
			b.Fatal(err)
		}
	}
}
