package export

import (
	"encoding/json"
	"io"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"brickrow/internal/tosca"
)

// SARIF writes findings in the form of SARIF 2.1.0 (OASIS), which editors and pipelines read. Files are told relative
// to a folder where they are below it. Help says what a code means.
func SARIF(w io.Writer, list tosca.Findings, folder, version string, help func(code string) string) error {
	type object = map[string]any
	var codes []string
	for _, f := range list {
		if !slices.Contains(codes, f.Code) {
			codes = append(codes, f.Code)
		}
	}
	slices.Sort(codes)
	rules := []object{}
	for _, c := range codes {
		rule := object{"id": c}
		if text := help(c); text != "" {
			rule["shortDescription"] = object{"text": text}
		}
		rules = append(rules, rule)
	}
	results := []object{}
	for _, f := range list {
		level := "error"
		if f.Severity != tosca.Error {
			level = "warning"
		}
		text := f.Message
		if f.Fix != "" {
			text += "; " + f.Fix
		}
		r := object{"ruleId": f.Code, "ruleIndex": slices.Index(codes, f.Code), "level": level, "message": object{"text": text}}
		if f.File != "" {
			place := object{"artifactLocation": location(f.File, folder)}
			if f.Line > 0 {
				place["region"] = object{"startLine": f.Line, "startColumn": max(1, f.Column)}
			}
			r["locations"] = []object{{"physicalLocation": place}}
		}
		results = append(results, r)
	}
	base := (&url.URL{Scheme: "file", Path: strings.TrimSuffix(filepath.ToSlash(folder), "/") + "/"}).String()
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	return e.Encode(object{"version": "2.1.0", "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		"runs": []object{{
			"tool":               object{"driver": object{"name": "Brick Row", "version": version, "rules": rules}},
			"columnKind":         "unicodeCodePoints",
			"originalUriBaseIds": object{"FOLDER": object{"uri": base}},
			"results":            results,
		}}})
}

// location is where a file is: relative to the folder where it is below it.
func location(file, folder string) map[string]any {
	abs := file
	if !filepath.IsAbs(abs) {
		abs = filepath.Join(folder, file)
	}
	if rel, err := filepath.Rel(folder, abs); err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator)) {
		return map[string]any{"uri": (&url.URL{Path: filepath.ToSlash(rel)}).String(), "uriBaseId": "FOLDER"}
	}
	return map[string]any{"uri": (&url.URL{Scheme: "file", Path: filepath.ToSlash(abs)}).String()}
}
