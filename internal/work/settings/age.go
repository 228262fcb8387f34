package settings

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// maxAge is the longest span of time that settings may name: longer ones are mistakes.
const maxAge = 290 * 365 * 24 * time.Hour

// ParseAge reads a span of time: "10m", "72h", "3 days", "2 weeks". An empty
// text is zero.
func ParseAge(text string) (time.Duration, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return 0, nil
	}
	if d, err := time.ParseDuration(text); err == nil && d >= 0 && d <= maxAge {
		return d, nil
	}
	number, unit, _ := strings.Cut(text, " ")
	n, err := strconv.Atoi(number)
	days := map[string]int{"day": 1, "days": 1, "week": 7, "weeks": 7}[unit]
	if err != nil || n < 0 || days == 0 || n > int(maxAge/(24*time.Hour))/days {
		return 0, fmt.Errorf("%q is not a span of time (write 90m, 72h, 3 days or 2 weeks; at most 290 years)", text)
	}
	return time.Duration(n*days) * 24 * time.Hour, nil
}
