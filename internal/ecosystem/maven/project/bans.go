package project

import (
	"path"
	"strings"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem/maven/pom"
	"bellwether/internal/ecosystem/mavenrepo"
)

// guard is the plug-in with which a project forbids dependencies.
var guard = mavenrepo.Coordinates{Group: "org.apache.maven.plugins", Artifact: "maven-enforcer-plugin"}

// Ban is a pattern of dependencies that the project forbids: "group:artifact:[2.6,)", with * for any text.
type Ban struct {
	Text string
	Site model.Site
}

// Bans are what the project's own files forbid, but for what they let in again.
func (p *Project) Bans() (bans, excepted []Ban) {
	for _, e := range p.Poms {
		for _, d := range e.Pom.Plugins {
			if e.CoordsOf(d) != guard {
				continue
			}
			configured := []*xmldoc.Element{d.At.Child("configuration")}
			if executions := d.At.Child("executions"); executions != nil {
				for _, x := range executions.All("execution") {
					configured = append(configured, x.Child("configuration"))
				}
			}
			for _, c := range configured {
				if c == nil {
					continue
				}
				rule := c.At("rules", "bannedDependencies")
				bans = append(bans, patterns(e.Pom, rule, "excludes", "exclude")...)
				excepted = append(excepted, patterns(e.Pom, rule, "includes", "include")...)
			}
		}
	}
	return bans, excepted
}

func patterns(of *pom.Pom, rule *xmldoc.Element, list, item string) (all []Ban) {
	if rule == nil || rule.Child(list) == nil {
		return nil
	}
	for _, one := range rule.Child(list).All(item) {
		all = append(all, Ban{one.Text, model.Site{File: of.File, Line: one.Site.Line}})
	}
	return all
}

// Covers tells whether a version of a package is meant by a pattern. What it says of kinds and scopes is not looked at.
func (b Ban) Covers(c mavenrepo.Coordinates, at version.Version) bool {
	parts := strings.Split(b.Text, ":")
	for i, text := range []string{c.Group, c.Artifact} {
		if i < len(parts) && parts[i] != "" {
			if ok, err := path.Match(parts[i], text); err != nil || !ok {
				return false
			}
		}
	}
	if len(parts) < 3 || parts[2] == "" || parts[2] == "*" {
		return true
	}
	rng, err := version.Maven{}.ParseRange(parts[2])
	if err != nil {
		return false
	}
	if rng.(*version.MavenRange).Soft { // here a version alone means it, and all later ones
		low, err := version.Maven{}.Parse(parts[2])
		return err == nil && at.Compare(low) >= 0
	}
	return rng.Contains(at)
}
