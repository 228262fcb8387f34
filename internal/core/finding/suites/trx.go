package suites

import (
	"encoding/xml"
	"errors"
	"io"
	"slices"

	"bellwether/internal/core/finding"
)

// ReadTRX reads results in the XML of .NET's test platform. What was read before a
// mistake in the XML is kept; the error tells of it.
func ReadTRX(r io.Reader) (tests []finding.Test, err error) {
	d := lenient(r)
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return tests, nil
		}
		if err != nil {
			return tests, err
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "UnitTestResult" {
			continue
		}
		var result struct {
			Output struct {
				ErrorInfo struct{ Message string }
			}
		}
		if err := d.DecodeElement(&result, &start); err != nil {
			return tests, err
		}
		outcome := attribute(start, "outcome")
		tests = append(tests, finding.Test{
			Name: attribute(start, "testName"), Passed: outcome == "Passed",
			Skipped: slices.Contains(
				[]string{"NotExecuted", "Inconclusive", "Pending"},
				outcome,
			), Message: causeIn(result.Output.ErrorInfo.Message),
		})
	}
}
