package advisory

import (
	"math"
	"strings"
)

// Rating is a severity in the words of CVSS: "critical", "high", "medium", "low", "none". A vector of version 3 is rated by its base
// score, after the specification of CVSS 3.1 (section 7.1 and table 14); other texts stay as they are.
func Rating(severity string) string {
	rest, is := strings.CutPrefix(severity, "CVSS:3.")
	if !is {
		return strings.ToLower(severity)
	}
	metrics := map[string]string{}
	for _, part := range strings.Split(rest, "/")[1:] {
		name, value, _ := strings.Cut(part, ":")
		metrics[name] = value
	}
	score, ok := baseScore(metrics)
	switch {
	case !ok:
		return severity
	case score >= 9:
		return "critical"
	case score >= 7:
		return "high"
	case score >= 4:
		return "medium"
	case score > 0:
		return "low"
	}
	return "none"
}

// weights are those of the metrics; privileges weigh more where the scope changes.
var weights = map[string]map[string]float64{
	"AV": {"N": 0.85, "A": 0.62, "L": 0.55, "P": 0.2},
	"AC": {"L": 0.77, "H": 0.44},
	"PR": {"N": 0.85, "L": 0.62, "H": 0.27},
	"UI": {"N": 0.85, "R": 0.62},
	"C":  {"H": 0.56, "L": 0.22, "N": 0},
	"I":  {"H": 0.56, "L": 0.22, "N": 0},
	"A":  {"H": 0.56, "L": 0.22, "N": 0},
}

func baseScore(metrics map[string]string) (score float64, ok bool) {
	weight := map[string]float64{}
	for name, values := range weights {
		if weight[name], ok = values[metrics[name]]; !ok {
			return 0, false
		}
	}
	changed := metrics["S"] == "C"
	if changed {
		weight["PR"] = map[string]float64{"N": 0.85, "L": 0.68, "H": 0.5}[metrics["PR"]]
	}
	lost := 1 - (1-weight["C"])*(1-weight["I"])*(1-weight["A"])
	impact := 6.42 * lost
	if changed {
		impact = 7.52*(lost-0.029) - 3.25*math.Pow(lost-0.02, 15)
	}
	if impact <= 0 {
		return 0, true
	}
	score = impact + 8.22*weight["AV"]*weight["AC"]*weight["PR"]*weight["UI"]
	if changed {
		score *= 1.08
	}
	return roundedUp(min(score, 10)), true
}

// roundedUp is the smallest number with one decimal that is not below x, without the errors of floating point.
func roundedUp(x float64) float64 {
	whole := math.Round(x * 100000)
	if math.Mod(whole, 10000) == 0 {
		return whole / 100000
	}
	return (math.Floor(whole/10000) + 1) / 10
}
