package shorthand

import (
	"fmt"
	"strings"

	"bellwether/internal/standin"
)

// Artifacts gives the packages that lines describe, one version a line:
//
//	pier:quay 1.0 java:17 pier:knot:1.1 pier:probe:2.0@test pier:sail:1.0? pier:winch:1.0!pier:rope
//
// "java:" is the version of Java that it is compiled for, "@" names a scope, "?" is for what is optional, "!" for what
// is not to come by way of it. "manages:pier:rope:1.0" is a version that a parent or a list gives others; "becomes:port:quay" is
// that the package is called so from then on.
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
		version := fields[1]
		var b strings.Builder
		fmt.Fprintf(
			&b,
			"<project><modelVersion>4.0.0</modelVersion><groupId>%s</groupId><artifactId>%s</artifactId><version>%s</version>\n",
			group,
			artifact,
			version,
		)
		if len(fields) > 2 {
			if java, is := strings.CutPrefix(fields[2], "java:"); is {
				fmt.Fprintf(&b, "<properties><maven.compiler.release>%s</maven.compiler.release></properties>\n", java)
				fields = fields[1:]
			}
		}
		managed := ""
		for _, field := range fields[2:] {
			if what, is := strings.CutPrefix(field, "becomes:"); is {
				toGroup, toArtifact, _ := strings.Cut(what, ":")
				fmt.Fprintf(
					&b, "<distributionManagement><relocation><groupId>%s</groupId><artifactId>%s</artifactId></relocation></distributionManagement>\n",
					toGroup, toArtifact,
				)
			}
			if what, is := strings.CutPrefix(field, "manages:"); is {
				text, err := mavenDependency(what)
				if err != nil {
					return nil, err
				}
				managed += text
			}
		}
		if managed != "" {
			fmt.Fprintf(
				&b, "<packaging>pom</packaging>\n<dependencyManagement><dependencies>\n%s</dependencies></dependencyManagement>\n", managed,
			)
		}
		b.WriteString("<dependencies>\n")
		for _, field := range fields[2:] {
			if strings.HasPrefix(field, "manages:") || strings.HasPrefix(field, "becomes:") {
				continue
			}
			text, err := mavenDependency(field)
			if err != nil {
				return nil, err
			}
			b.WriteString(text)
		}
		b.WriteString("</dependencies></project>\n")
		folder := strings.ReplaceAll(group, ".", "/") + "/" + artifact + "/" + version + "/"
		all[folder+artifact+"-"+version+".pom"] = b.String()
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
