package fit

import (
	"fmt"
	"strings"
)

// charactersRule: does the game allow the folder name's characters and length?
var charactersRule = Rule{Concern: "characters", Title: "Allowed characters", check: func(in Input, r *Row) {
	rule := in.Profile.World.FolderName
	target := in.Target()
	r.World = Cell{Text: fmt.Sprintf("%s, %d characters", quote(target), len([]rune(target)))}
	r.Server = Cell{Text: allowedText(rule.Allow, rule.Longest), From: "game profile"}
	bad := rule.BadRunes(target)
	var what string
	switch {
	case strings.TrimSpace(target) == "" || target == "." || target == "..":
		what = "A folder name cannot be empty, “.” or “..”."
	case len(bad) > 0:
		what = "The game does not allow " + shown(bad) + " in a world's folder name."
	case rule.TooLong(target):
		what = "The folder name is longer than the game allows."
	case strings.HasPrefix(target, "."):
		what = "A folder name that begins with a dot is hidden, and Reshard's own working folder is one."
	case !rule.Follows(target):
		r.block("The game wants names of the form "+rule.Pattern+", and "+quote(target)+" is none.",
			"Rename the world's folder as the game does, and send it again; or choose a name of that form with "+
				"--folder.")
		return
	default:
		r.say("Every character is allowed.")
		return
	}
	options := []Option{
		{
			Choice: "folder-name",
			Answer: rule.Safe(target),
			Say:    "Place the world under this name. Its title stays " + quote(in.World.Title) + ".",
		},
	}
	switch in.Purpose {
	case ForReset:
		options[0].Say = "Let the new world have this name."
	case ForRename:
		options[0].Say = "Rename it to this."
	}
	if a := in.Server.Active; in.Purpose == ForPut && a != "" && a != options[0].Answer && rule.Usable(a) {
		options = append(options, Option{
			Choice: "folder-name",
			Answer: a,
			Say:    "Use the name that the settings hold already; the old world of that name is set aside.",
		})
	}
	r.choose(what, "Choose a folder name; nothing is renamed without your word.", options...)
}}

func allowedText(allow string, longest int) string {
	text := "any character"
	if allow != "" {
		text = allow
	}
	if longest > 0 {
		text += fmt.Sprintf(", at most %d", longest)
	}
	return text
}

func shown(bad []rune) string {
	parts := make([]string, 0, len(bad))
	for _, r := range bad {
		if r == ' ' {
			parts = append(parts, "a blank")
		} else {
			parts = append(parts, fmt.Sprintf("%q", r))
		}
	}
	return list(parts, 6)
}
