package wire

import (
	"fmt"
	"net/url"
	"reflect"
	"strings"
)

// Part is which part of a list is wanted.
type Part struct {
	// where the page before has ended; left out: the beginning
	After string `json:"after,omitempty" query:"after" doc:"a cursor, from the Link header of the page before"`
	// at most so many
	Limit int `json:"limit,omitempty" query:"limit" minimum:"0" maximum:"1000" doc:"0: 100"`
}

// ServerQuery is what is looked for among servers; what is empty asks for nothing.
type ServerQuery struct {
	Part
	Search string `json:"search,omitempty" query:"search" doc:"words, each in a name, game, kind, host or folder"`
	Game   string `json:"game,omitempty" query:"game"`
	Host   string `json:"host,omitempty" query:"host"`
	Order  string `json:"order,omitempty" query:"order" enum:"name,-name,added,-added" doc:"left out: name"`
}

// ChangeoverQuery is what is looked for among changeovers; what is empty asks for nothing.
type ChangeoverQuery struct {
	Part
	Server string `json:"server,omitempty" query:"server" doc:"only of this server"`
	Kind   string `json:"kind,omitempty" query:"kind" doc:"only of this kind"`
	State  string `json:"state,omitempty" query:"state" doc:"only in this state; left out: all that were started"`
	Order  string `json:"order,omitempty" query:"order" enum:"started,-started" doc:"left out: newest first"`
}

// WorldQuery is what is looked for in the library; what is empty asks for nothing.
type WorldQuery struct {
	Part
	Search  string `json:"search,omitempty" query:"search" doc:"words, all of which must stand in what is told"`
	Game    string `json:"game,omitempty" query:"game"`
	Server  string `json:"server,omitempty" query:"server" doc:"that it was brought onto, or taken from"`
	Tag     string `json:"tag,omitempty" query:"tag"`
	Seed    string `json:"seed,omitempty" query:"seed"`
	Version string `json:"version,omitempty" query:"version"`
	Player  string `json:"player,omitempty" query:"player" doc:"name or id"`
	Aside   bool   `json:"aside,omitempty" query:"aside" doc:"only copies that are set aside"`
	// left out: -arrived
	Order string `json:"order,omitempty" query:"order" enum:"arrived,-arrived,name,-name,played,-played,size,-size"`
}

// Values writes a query as it stands in an address: what is empty is left out.
func Values(query any) url.Values {
	out := url.Values{}
	values(reflect.ValueOf(query), out)
	return out
}

func values(v reflect.Value, out url.Values) {
	for i := range v.NumField() {
		f := v.Type().Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("query"), ",")
		switch list, many := v.Field(i).Interface().([]string); {
		case f.Anonymous:
			values(v.Field(i), out)
		case many && name != "": // each by itself: a name may hold a comma
			for _, one := range list {
				out.Add(name, one)
			}
		case name != "" && !v.Field(i).IsZero():
			out.Set(name, fmt.Sprint(v.Field(i).Interface()))
		}
	}
}
