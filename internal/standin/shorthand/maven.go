package shorthand

import (
	"fmt"
	"strings"

	"bellwether/internal/standin"
)

// Artifacts gives the packages that lines describe, one version a line:
//
//	pier:quay 1.0 pier:knot:1.1 pier:probe:2.0@test pier:sail:1.0? pier:winch:1.0!pier:rope
//
// "@" names a scope, "?" is for what is optional, "!" for what is not to come by way of it.
func Artifacts(lines string) (standin.Artifacts, error) {
	all := standin.Artifacts{}
	for line := range strings.Lines(lines) {
		fields := strings.Fields(line)
		if len(fields) < 2 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		group, artifact, ok := strings.Cut(fields[0], ":")
		if !ok {
			return nil, fmt.Errorf("%q is no group with an artifact", fields[0])
		}
		var b strings.Builder
		fmt.Fprintf(
			&b,
			"<project><modelVersion>4.0.0</modelVersion><groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version>\n",
			group,
			artifact,
			fields[1],
		)
		b.WriteString("<dependencies>\n")
		for _, field := range fields[2:] {
			text, err := mavenDependency(field)
			if err != nil {
				return nil, err
			}
			b.WriteString(text)
		}
		b.WriteString("</dependencies></project>\n")
		folder := strings.ReplaceAll(group, ".", "/") + "/" + artifact + "/" + fields[1] + "/"
		all[folder+artifact+"-"+fields[1]+".pom"] = b.String()
	}
	return all, nil
}

// mavenDependency is a dependency in XML.
func mavenDependency(field string) (string, error) {
	rest, exclusion, _ := strings.Cut(field, "!")
	rest, optional := strings.CutSuffix(rest, "?")
	rest, scope, _ := strings.Cut(rest, "@")
	parts := strings.SplitN(rest, ":", 3)
	if len(parts) != 3 {
		return "", fmt.Errorf("%q is no group, artifact and version", field)
	}
	text := fmt.Sprintf("<dependency><groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version>", parts[0], parts[1], parts[2])
	if scope != "" {
		text += "<scope>" + scope + "</scope>"
	}
	if optional {
		text += "<optional>true</optional>"
	}
	if group, artifact, ok := strings.Cut(exclusion, ":"); ok {
		text += fmt.Sprintf(
			"<exclusions><exclusion><groupId>%s</groupId><artifactId>%s</artifactId></exclusion></exclusions>",
			group,
			artifact,
		)
	}
	return text + "</dependency>\n", nil
}
