package need

import (
	"fmt"
	"strings"

	"bellwether/internal/core/output"
	"bellwether/internal/host/machine"
)

// Verdict is what has to be done, in a word.
func (n *Need) Verdict() string {
	switch {
	case n.Install && n.Elsewhere != nil && !n.Raise:
		return output.VerdictSwitch
	case n.Raise && n.Install:
		return output.VerdictBoth
	case n.Raise:
		return output.VerdictRaise
	case n.Install:
		return output.VerdictInstall
	case n.Unknown:
		return output.VerdictUnknown
	}
	return output.VerdictMet
}

// Next is what a person has to do for a need, "" for nothing.
func (n *Need) Next() string {
	wants := strings.Join(n.Wants.Texts(), " and ")
	switch {
	case n.Install && n.Elsewhere != nil:
		return fmt.Sprintf(
			"let %s be %s, which lies in %s; what starts now is %s", n.Subject, n.Elsewhere.Version, n.Elsewhere.Where, starts(n.Installed),
		)
	case n.Install && len(n.Installed) > 0:
		return fmt.Sprintf("install %s %s on this machine, which has %s", n.Subject, wants, n.Installed[0].Version)
	case n.Install:
		return fmt.Sprintf("install %s %s on this machine", n.Subject, wants)
	case n.Unknown:
		return fmt.Sprintf("see that %s is %s; no file states it, and it cannot be asked for", n.Subject, wants)
	}
	return ""
}

// starts is what a bare command starts.
func starts(installed []machine.Installed) string {
	if installed[0].Where == "" {
		return installed[0].Version
	}
	return "none"
}
