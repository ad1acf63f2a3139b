package fit

import (
	"maps"
	"slices"
	"strings"

	"reshard/internal/core/fault"
)

// goOn accepts what a row warns of.
const goOn = "go-on"

// anyAnswer marks choices that take any text: names, titles, seeds.
const anyAnswer = "*"

// answers are all choices with all answers that rows may offer. A wish may give one before its row asks, since the row
// may come to ask later; one that no row ever offers is a mistake.
var answers = map[string][]string{
	"comparison":     {BySample, Whole},
	"completeness":   {goOn},
	"first-start":    {"make"},
	"folder-name":    {anyAnswer},
	"game":           {goOn},
	"leftovers":      {goOn},
	"locks":          {goOn},
	"may-stop":       {"yes"},
	"mods":           {goOn, Awaited},
	"only":           {anyAnswer},
	"overrides":      {"keep", "leave"},
	"owner":          {goOn},
	"players":        {"keep", "strip"},
	"processes":      {goOn},
	"read-whole":     {"yes"},
	"replace":        {"yes"},
	"restart":        {"yes"},
	"safety-copy":    {"library"},
	"seed":           {anyAnswer},
	"sources":        {goOn},
	"switch":         {"when-told"},
	"title":          {anyAnswer},
	"unsaved":        {"lose"},
	"version":        {goOn},
	"world-settings": {"bring", "leave"},
}

// Check refuses choices that no row of the sheet offers, and answers that their row does not offer, with those that
// there are. Code Invalid.
func (s Sheet) Check(choices Choices) error {
	for _, key := range slices.Sorted(maps.Keys(choices)) {
		answer, known := choices[key], answers[key]
		if known == nil {
			return fault.New(fault.Invalid, "choose", key, "there is no such choice").
				With("Choices are: " + strings.Join(slices.Sorted(maps.Keys(answers)), ", ") + ".")
		}
		var offered []string
		for _, r := range s.Rows {
			for _, o := range r.Options {
				if o.Choice == key {
					offered = append(offered, o.Answer)
				}
			}
		}
		takes := known
		if !slices.Contains(known, anyAnswer) && len(offered) > 0 {
			takes = offered
		}
		if !slices.Contains(takes, anyAnswer) && !slices.Contains(takes, answer) {
			return fault.New(fault.Invalid, "choose", key, "%q is not one of its answers", answer).
				With("Give one of: " + key + "=" + strings.Join(takes, ", "+key+"=") + ".")
		}
	}
	return nil
}
