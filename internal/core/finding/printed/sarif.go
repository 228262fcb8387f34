package printed

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"bellwether/internal/core/finding"
)

// sarifLog is what is read of a log in the Static Analysis Results Interchange
// Format (OASIS, SARIF 2.1.0).
type sarifLog struct {
	Runs []struct {
		Tool struct {
			Driver struct {
				Name  string
				Rules []struct {
					ID                   string
					DefaultConfiguration struct{ Level string }
				}
			}
		}
		Results []struct {
			RuleID       string `json:"ruleId"`
			Level        string
			Message      struct{ Text, Markdown string }
			Suppressions []any
			Locations    []struct {
				PhysicalLocation struct {
					ArtifactLocation struct{ URI string }
					Region           struct{ StartLine, StartColumn int }
				}
			}
		}
	}
}

// readSARIF reads the results of a log in SARIF. Those that are suppressed are left
// out.
func readSARIF(r io.Reader, s *sink) error {
	var log sarifLog
	if err := json.NewDecoder(r).Decode(&log); err != nil {
		return fmt.Errorf("reading SARIF: %w", err)
	}
	for _, run := range log.Runs {
		levels := map[string]string{}
		for _, rule := range run.Tool.Driver.Rules {
			levels[rule.ID] = rule.DefaultConfiguration.Level
		}
		for _, result := range run.Results {
			f := finding.Finding{
				Tool: strings.ToLower(
					run.Tool.Driver.Name,
				), Code: result.RuleID, Text: cmp.Or(result.Message.Text, result.Message.Markdown),
				Kind: finding.Warning,
			}
			level := cmp.Or(result.Level, levels[result.RuleID], "warning")
			switch {
			case len(result.Suppressions) > 0 || level == "none":
				continue
			case level == "error":
				f.Kind = finding.Failure
			case deprecates.MatchString(f.Text + " " + f.Code):
				f.Kind = finding.Deprecation
			}
			var at spot
			if len(result.Locations) > 0 {
				where := result.Locations[0].PhysicalLocation
				at.file = strings.TrimPrefix(where.ArtifactLocation.URI, "file://")
				if n := where.Region.StartLine; n > 0 {
					at.line = fmt.Sprint(n)
				}
				if n := where.Region.StartColumn; n > 0 {
					at.col = fmt.Sprint(n)
				}
			}
			s.put(f, at)
		}
	}
	return nil
}
