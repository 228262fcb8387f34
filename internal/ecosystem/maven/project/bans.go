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
	p.guarded(func(of *pom.Pom, rules *xmldoc.Element) {
		rule := rules.Child("bannedDependencies")
		bans = append(bans, patterns(of, rule, "excludes", "exclude")...)
		excepted = append(excepted, patterns(of, rule, "includes", "include")...)
	})
	return bans, excepted
}

// Strict is what the project's own files lay down for the versions that its modules get.
type Strict struct {
	Upper    model.Site // where nothing may be lower than somebody asks for it; zero if it may
	Converge model.Site // where all are to ask for the same version of a package; zero if they need not
}

// Strictness is what the project lays down for the versions of what comes along.
func (p *Project) Strictness() (s Strict) {
	p.guarded(func(of *pom.Pom, rules *xmldoc.Element) {
		for name, at := range map[string]*model.Site{"requireUpperBoundDeps": &s.Upper, "dependencyConvergence": &s.Converge} {
			if rule := rules.Child(name); rule != nil && at.File == "" {
				*at = model.Site{File: of.File, Line: model.LineOf(of.Src, rule.Start)}
			}
		}
	})
	return s
}

// guarded visits the rules that the project's own files lay down.
func (p *Project) guarded(visit func(of *pom.Pom, rules *xmldoc.Element)) {
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
				if c != nil && c.Child("rules") != nil {
					visit(e.Pom, c.Child("rules"))
				}
			}
		}
	}
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
