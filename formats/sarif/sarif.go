// Package sarif writes the findings of a check as SARIF 2.1.0, remedies as
// fixes. It does no I/O.
package sarif

import (
	"path/filepath"
	"strings"

	"ironweir/core/check/remedy"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/pmezard/go-difflib/difflib"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/model"
)

// Report makes the report of a check. texts holds the model's files by name; a
// finding in a file that is not among them has no fixes.
func Report(doc *check.Document, texts map[string][]byte) (*sarif.Report, error) {
	run := sarif.NewRun()
	driver := sarif.NewToolComponent()
	name, version := "Iron Weir", document.Version
	driver.Name, driver.Version = &name, &version
	index := map[string]int{}
	for i, r := range check.Rules {
		rule := sarif.NewRule(r.Code)
		rule.WithName(r.Title)
		rule.WithShortDescription(sarif.NewMultiformatMessageString().WithText(r.Title))
		rule.WithFullDescription(sarif.NewMultiformatMessageString().WithText(strings.Join(strings.Fields(r.Doc), " ")))
		rule.WithDefaultConfiguration(sarif.NewReportingConfiguration().WithLevel(string(r.Severity)))
		driver.AddRule(rule)
		index[r.Code] = i
	}
	run.WithTool(sarif.NewTool().WithDriver(driver))
	for i := range doc.Findings {
		result, err := resultOf(&doc.Findings[i], texts)
		if err != nil {
			return nil, err
		}
		result.RuleIndex = index[doc.Findings[i].Code]
		run.AddResult(result)
	}
	report := sarif.NewReport()
	report.Schema = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
	report.AddRun(run)
	return report, nil
}

func resultOf(f *check.Finding, texts map[string][]byte) (*sarif.Result, error) {
	r := sarif.NewRuleResult(f.Code)
	r.Level = string(f.Severity)
	r.WithMessage(sarif.NewTextMessage(f.Message))
	r.WithPartialFingerprints(map[string]string{"ironweir/1": f.ID})
	region := sarif.NewRegion().WithStartLine(max(f.Position.Line, 1)).WithStartColumn(max(f.Position.Column, 1))
	place := sarif.NewPhysicalLocation().WithArtifactLocation(artifact(f.Position.File)).WithRegion(region)
	r.WithLocations([]*sarif.Location{sarif.NewLocationWithPhysicalLocation(place)})
	if f.Accepted != nil {
		kind, status := "external", "accepted"
		s := sarif.NewSuppression().WithJustification(f.Accepted.Because)
		s.Kind, s.Status = &kind, &status
		r.WithSuppressions([]*sarif.Suppression{s})
	} else {
		r.Suppressions = nil
	}
	text, ok := texts[f.Position.File]
	if !ok {
		return r, nil
	}
	for _, remedy := range f.Remedies {
		fix, err := fixOf(f.Position.File, text, remedy)
		if err != nil {
			return nil, err
		}
		if fix != nil {
			r.AddFixe(fix)
		}
	}
	return r, nil
}

func artifact(file string) *sarif.ArtifactLocation {
	return sarif.NewSimpleArtifactLocation(filepath.ToSlash(file))
}

// fixOf writes a remedy as replaced lines; nil where it cannot be written into
// the text by itself.
func fixOf(file string, text []byte, remedy remedy.Remedy) (*sarif.Fix, error) {
	patch, err := remedy.Document()
	if err != nil {
		return nil, err
	}
	after, err := model.Edit(text, patch)
	if err != nil {
		return nil, nil
	}
	a, b := difflib.SplitLines(string(text)), difflib.SplitLines(string(after))
	change := sarif.NewArtifactChange().WithArtifactLocation(artifact(file))
	for _, op := range difflib.NewMatcher(a, b).GetOpCodes() {
		if op.Tag == 'e' {
			continue
		}
		region := sarif.NewRegion().WithStartLine(op.I1 + 1).WithStartColumn(1).WithEndLine(op.I2 + 1).WithEndColumn(1)
		inserted := strings.Join(b[op.J1:op.J2], "")
		change.Replacements = append(
			change.Replacements,
			sarif.NewReplacement().WithDeletedRegion(region).WithInsertedContent(
				sarif.NewArtifactContent().WithText(inserted),
			),
		)
	}
	if len(change.Replacements) == 0 {
		return nil, nil
	}
	return sarif.NewFix().WithDescription(sarif.NewTextMessage(remedy.Say)).WithArtifactChanges(
		[]*sarif.ArtifactChange{change},
	), nil
}
