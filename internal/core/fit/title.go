package fit

import (
	"errors"
	"strings"

	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

var errNoTitle = errors.New("the game profile does not say where a title stands")

// titleRule: shall the world get another title on the server, and can it?
var titleRule = Rule{Concern: "title", Title: "Title", check: func(in Input, r *Row) {
	wish, title := in.Choices["title"], in.World.Fact("title")
	r.World = Cell{Text: quote(in.World.Title), From: title.File}
	if wish == "" || wish == in.World.Title {
		r.idle("The world keeps its title.")
		return
	}
	src, err := in.TitleSource()
	switch {
	case err != nil:
		r.block("The title cannot be changed: "+err.Error()+".", "Leave it as it is, or change it in the game.")
	case strings.ContainsAny(wish, "\r\n\x00"):
		r.block("A title is one line, and this one is not.", "Give another.")
	default:
		r.adjust("The world is called "+quote(in.World.Title)+".",
			"Write "+quote(wish)+" into "+src.Read+" of the staged world; the library's copy keeps its title.")
	}
}}

// LongestTitled bounds the file into which a title is written, in bytes.
const LongestTitled = 64 << 20

// TitleSource is where the title stands that the world has, if it may be edited.
func (in Input) TitleSource() (game.Source, error) {
	title := in.World.Fact("title")
	for _, s := range in.Profile.World.Facts["title"] {
		if len(in.Profile.World.Facts["title"]) == 1 || s.Read == title.File {
			return s, fact.Editable(s)
		}
	}
	return game.Source{}, errNoTitle
}

// WriteTitle has the world's file that holds its title read and gives that file's path in
// the world's folder, and its content with another title.
func (in Input) WriteTitle(title string, read func(file string) ([]byte, error)) (
	file string, after []byte, err error,
) {
	src, err := in.TitleSource()
	if err != nil {
		return "", nil, err
	}
	file = in.World.Fact("title").File
	data, err := read(file)
	if err != nil {
		return file, nil, err
	}
	after, err = fact.Edit(file, data, src, title)
	return file, after, err
}
