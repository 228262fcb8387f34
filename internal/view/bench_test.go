package view

import (
	"fmt"
	"io"
	"testing"

	"bellwether/internal/core/output"
	"bellwether/internal/core/report"
)

// BenchmarkReport writes the report of a route of 60 legs and 3,000 packages in each form.
func BenchmarkReport(b *testing.B) {
	r := &report.Report{}
	for leg := range 60 {
		l := report.Leg{State: report.Done, LegResult: output.LegResult{ID: fmt.Sprint(leg), Component: "board"}}
		for i := range 50 {
			l.LegResult.Carried = append(l.LegResult.Carried, output.MoveSummary{
				Name: fmt.Sprintf("rope-%d-%d", leg, i), From: "1", To: "2", Via: []string{"hull 1", fmt.Sprintf("rope-%d-%d 2", leg, i/7)},
			})
		}
		r.Legs = append(r.Legs, l)
	}
	for _, form := range ReportFormats {
		b.Run(string(form), func(b *testing.B) {
			for b.Loop() {
				if err := (Out{W: io.Discard, Format: form}).Report(r); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
