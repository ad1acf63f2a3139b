package records

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"

	"golang.org/x/text/cases"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
)

// The kinds of changeover that place a copy of the library's, and those that leave
// something on their server, as lists of SQL.
var (
	bringing  = texts(plan.KindsThat(func(k plan.Kind) bool { return k.Brings }))
	givingWay = texts(plan.KindsThat(func(k plan.Kind) bool { return k.GivesWay }))
	lasting   = texts(plan.KindsThat(func(k plan.Kind) bool { return k.Lasting }))
)

// texts writes names as a list of SQL texts; they are names of kinds, without quotes.
func texts(names []string) string { return "'" + strings.Join(names, "', '") + "'" }

// A page of a list has usuallyListed entries, and mostListed at the most.
const (
	usuallyListed = 100
	mostListed    = 1000
)

// Page says which part of a list is wanted: at most Limit of what comes after a cursor, ""
// for the beginning. Limit 0 is 100, and more than 1000 is 1000.
type Page struct {
	After string
	Limit int
}

func (p Page) limit() int {
	if p.Limit <= 0 {
		return usuallyListed
	}
	return min(p.Limit, mostListed)
}

// cursor is where a page ended: the list's order, and the values of the last row in it.
type cursor struct {
	Order string `json:"o"`
	Text  string `json:"t,omitempty"`
	ID    int64  `json:"i,omitempty"`
}

func (c cursor) String() string {
	data, _ := json.Marshal(c) // texts and numbers always encode
	return base64.RawURLEncoding.EncodeToString(data)
}

// begin reads a cursor; a list of another order does not go on with it.
func (p Page) begin(order string) (c cursor, err error) {
	if p.After == "" {
		return c, nil
	}
	data, err := base64.RawURLEncoding.DecodeString(p.After)
	if err == nil {
		err = json.Unmarshal(data, &c)
	}
	if err != nil || c.Order != order {
		return c, fault.New(fault.Invalid, "list", "page", "the cursor is not one of this list in this order").
			With("Begin the list anew, without one.")
	}
	return c, nil
}

// query is a SELECT that is put together of conditions.
type query struct {
	where []string
	args  []any
}

// add adds a condition, in which ? stands for the value.
func (q *query) add(condition string, value any) {
	q.args = append(q.args, value)
	q.where = append(q.where, strings.ReplaceAll(condition, "?", fmt.Sprintf("$%d", len(q.args))))
}

func (q *query) String() string {
	if len(q.where) == 0 {
		return ""
	}
	return " AND " + strings.Join(q.where, " AND ")
}

// order is how a list is ordered: by which column, and which way.
type order struct {
	column string // of the text that orders; "": by id alone
	down   bool
}

// after adds what comes after a cursor.
func (q *query) after(o order, id string, c cursor, begun bool) {
	if !begun {
		return
	}
	way := ">"
	if o.down {
		way = "<"
	}
	if o.column == "" {
		q.add(id+" "+way+" ?", c.ID)
		return
	}
	q.args = append(q.args, c.Text, c.ID)
	n := len(q.args)
	q.where = append(q.where, fmt.Sprintf("(%s, %s) %s ($%d, $%d)", o.column, id, way, n-1, n))
}

func (o order) by(id string) string {
	way := " ASC"
	if o.down {
		way = " DESC"
	}
	if o.column == "" {
		return " ORDER BY " + id + way
	}
	return " ORDER BY " + o.column + way + ", " + id + way
}

func orderOf(orders map[string]order, name, usual string) (string, order, error) {
	if name == "" {
		name = usual
	}
	o, ok := orders[name]
	if !ok {
		return name, o, fault.New(fault.Invalid, "list", "order", "there is no order %q", name)
	}
	return name, o, nil
}

// folded is a text as it is searched: without differences of capitals.
func folded(s string) string { return cases.Fold().String(s) }

// like is a pattern of LIKE that finds a text anywhere.
func like(s string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(folded(s)) + "%"
}

// ServerQuery is what is looked for among servers; what is empty asks for nothing. Search
// is a part of a name, game, kind, host or folder.
type ServerQuery struct {
	Page
	Search, Game, Host string
	// Order is name (usual), -name, added or -added.
	Order string
}

var serverOrders = map[string]order{
	"name": {column: "s.name"}, "-name": {column: "s.name", down: true}, "added": {}, "-added": {down: true},
}

// Listed is a server in a list, with the changeover that holds it; 0: none.
type Listed struct {
	Server
	Holder int64 `db:"holder"`
}

// ServerPage gives a page of servers, and where the next one begins; "" after the last.
func (r *Records) ServerPage(ctx context.Context, sq ServerQuery) (out []Listed, next string, err error) {
	name, o, err := orderOf(serverOrders, sq.Order, "name")
	if err != nil {
		return nil, "", err
	}
	from, err := sq.begin(name)
	if err != nil {
		return nil, "", err
	}
	var q query
	if sq.Game != "" {
		q.add("s.game = ?", sq.Game)
	}
	if sq.Host != "" {
		q.add("h.name = ?", sq.Host)
	}
	for _, word := range strings.Fields(sq.Search) {
		q.add("lower(concat_ws(' ', s.name, s.game, s.kind, h.name, s.root)) LIKE ?", like(word))
	}
	q.after(o, "s.id", from, sq.After != "")
	limit := sq.limit()
	err = r.db.SelectContext(ctx, &out, `SELECT s.*, h.name AS host, COALESCE(held.changeover_id, 0) AS holder
		FROM servers s JOIN hosts h ON h.id = s.host_id LEFT JOIN holds held ON held.server_id = s.id
		WHERE s.removed_at IS NULL`+q.String()+o.by("s.id")+fmt.Sprintf(" LIMIT %d", limit+1), q.args...)
	if len(out) > limit {
		out = out[:limit]
		last := out[limit-1]
		next = cursor{Order: name, Text: last.Name, ID: last.ID}.String()
	}
	return out, next, classify("list", "servers", err)
}

// ChangeoverQuery is what is looked for among changeovers that were started; what is empty
// asks for nothing.
type ChangeoverQuery struct {
	Page
	Server, Kind, State string
	// Order is -started (usual: newest first) or started.
	Order string
}

var changeoverOrders = map[string]order{"started": {}, "-started": {down: true}}

// ChangeoverPage gives a page of changeovers with their steps, and where the next one
// begins; "" after the last. Drafts that nobody has started are left out, unless State asks
// for them.
func (r *Records) ChangeoverPage(ctx context.Context, cq ChangeoverQuery) (out []Changeover, next string, err error) {
	name, o, err := orderOf(changeoverOrders, cq.Order, "-started")
	if err != nil {
		return nil, "", err
	}
	from, err := cq.begin(name)
	if err != nil {
		return nil, "", err
	}
	var q query
	if cq.Server != "" {
		q.add("s.name = ?", cq.Server)
	}
	if cq.Kind != "" {
		q.add("c.kind = ?", cq.Kind)
	} else { // backups have a list of their own
		q.where = append(q.where, "c.kind NOT IN ("+givingWay+")")
	}
	if cq.State != "" {
		q.add("c.state = ?", cq.State)
	} else {
		q.where = append(q.where, "c.state <> 'drafted'")
	}
	q.after(o, "c.id", from, cq.After != "")
	limit := cq.limit()
	err = r.db.SelectContext(ctx, &out, `SELECT `+changeoverColumns+` FROM changeovers c
		JOIN servers s ON s.id = c.server_id WHERE true`+q.String()+o.by("c.id")+fmt.Sprintf(" LIMIT %d", limit+1),
		q.args...)
	if err != nil {
		return nil, "", classify("list", "changeovers", err)
	}
	if len(out) > limit {
		out = out[:limit]
		next = cursor{Order: name, ID: out[limit-1].ID}.String()
	}
	return out, next, r.takeSteps(ctx, out)
}

// takeSteps fills in the steps of many changeovers at once.
func (r *Records) takeSteps(ctx context.Context, list []Changeover) error {
	ids, at := make([]int64, len(list)), make(map[int64]int, len(list))
	for i, c := range list {
		ids[i], at[c.ID] = c.ID, i
	}
	var steps []struct {
		Changeover int64 `db:"changeover_id"`
		plan.StepRecord
	}
	err := r.db.SelectContext(ctx, &steps, `
		SELECT changeover_id, `+stepColumns+` FROM steps
		WHERE changeover_id IN (SELECT jsonb_array_elements($1::jsonb)::bigint) ORDER BY changeover_id, n`,
		JSON[[]int64]{ids})
	for _, s := range steps {
		c := &list[at[s.Changeover]]
		c.Steps = append(c.Steps, s.StepRecord)
	}
	return classify("find steps of", "changeovers", err)
}

// WorldQuery is what is looked for in the library: words, all of which a world must have
// somewhere in what is told of it, and what one of its copies must say. What is empty asks
// for nothing.
type WorldQuery struct {
	Page
	Search, Game, Server, Tag string
	Seed, Version, Player     string
	// Aside asks for what is set aside, and only that.
	Aside bool
	// Order is arrived, name, played or size, or one of them turned round: -arrived is usual,
	// the world with the newest copy first. A world's size is its newest copy's; played is
	// the last time that any of its copies tells.
	Order string
}

var worldOrders = map[string]order{
	"arrived": {column: "newest"}, "-arrived": {column: "newest", down: true},
	"name": {column: "name"}, "-name": {column: "name", down: true},
	"played": {column: "played"}, "-played": {column: "played", down: true},
	"size": {column: "size"}, "-size": {column: "size", down: true},
}

// ListedWorld is a world in a list.
type ListedWorld struct {
	WorldEntry
	// Place is what the list is ordered by.
	Place   string         `db:"place"`
	Servers JSON[[]string] `db:"servers"`
}

// worldList has a row a world, with the servers that it has been brought onto or was taken
// from, and with all that is told of it as one text; $1 asks for copies that are set aside.
var worldList = `WITH onto AS (
		SELECT k.world_id, s.name FROM changeovers c JOIN copies k ON k.id = c.copy_id
			JOIN servers s ON s.id = c.server_id
			WHERE c.state = 'done' AND c.kind IN (` + bringing + `)
		UNION SELECT k.world_id, s.name FROM copies k JOIN servers s ON s.id = k.server_id
	), listed AS (
		SELECT w.*, lpad(max(c.arrived_no)::text, 20, '0') AS newest,
			COALESCE((SELECT jsonb_agg(o.name ORDER BY o.name) FROM onto o WHERE o.world_id = w.id), '[]') AS servers,
			COALESCE(to_char(max((c.facts->>'lastPlayed')::timestamptz) AT TIME ZONE 'UTC', 'YYYYMMDDHH24MISSUS'), '')
				AS played,
			lpad((array_agg(c.bytes ORDER BY c.arrived_no DESC))[1]::text, 20, '0') AS size,
			string_agg(c.told, ' ') AS copies_told
		FROM worlds w JOIN copies c ON c.world_id = w.id AND c.gone_at IS NULL AND (c.aside_at IS NOT NULL) = $1
		GROUP BY w.id
	)
	SELECT id, name, game, title, created_at, note, tags, servers, `

// WorldPage gives a page of worlds, and where the next one begins; "" after the last.
func (r *Records) WorldPage(ctx context.Context, wq WorldQuery) (out []ListedWorld, next string, err error) {
	name, o, err := orderOf(worldOrders, wq.Order, "-arrived")
	if err != nil {
		return nil, "", err
	}
	from, err := wq.begin(name)
	if err != nil {
		return nil, "", err
	}
	q := query{args: []any{wq.Aside}}
	if wq.Game != "" {
		q.add("game = ?", wq.Game)
	}
	if wq.Server != "" {
		q.add("EXISTS (SELECT FROM jsonb_array_elements_text(servers) x WHERE lower(x) = ?)", folded(wq.Server))
	}
	if wq.Tag != "" {
		q.add("EXISTS (SELECT FROM jsonb_array_elements_text(tags) x WHERE lower(x) = ?)", folded(wq.Tag))
	}
	said := func(condition string, value any) {
		q.add(`EXISTS (SELECT FROM copies c WHERE c.world_id = listed.id AND c.gone_at IS NULL
			AND (c.aside_at IS NOT NULL) = $1 AND `+condition+`)`, value)
	}
	if wq.Seed != "" {
		said("c.facts #>> '{facts,seed,text}' = ?", wq.Seed)
	}
	if wq.Version != "" {
		said("c.facts #>> '{facts,version,text}' = ?", wq.Version)
	}
	if wq.Player != "" {
		said(`EXISTS (SELECT FROM jsonb_array_elements(
			CASE jsonb_typeof(c.facts->'players') WHEN 'array' THEN c.facts->'players' ELSE '[]' END) p
			WHERE ? IN (lower(p->>'name'), lower(p->>'id')))`, folded(wq.Player))
	}
	for _, word := range strings.Fields(wq.Search) {
		q.add(`concat_ws(' ', lower(concat_ws(' ', name, title, game, note, tags::text, servers::text)), copies_told)
			LIKE ?`, like(word))
	}
	q.after(o, "id", from, wq.After != "")
	limit := wq.limit()
	err = r.db.SelectContext(ctx, &out, worldList+o.column+" AS place FROM listed WHERE true"+q.String()+o.by("id")+
		fmt.Sprintf(" LIMIT %d", limit+1), q.args...)
	if len(out) > limit {
		out = out[:limit]
		last := out[limit-1]
		next = cursor{Order: name, Text: last.Place, ID: last.ID}.String()
	}
	return out, next, classify("list", "worlds", err)
}

// briefFacts is what a list tells of a copy's facts: of its players the first twenty and how
// many there are, of its lists of facts nothing.
const briefFacts = `c.facts || jsonb_build_object(
	'players', CASE jsonb_typeof(c.facts->'players') WHEN 'array'
		THEN jsonb_path_query_array(c.facts, '$.players[0 to 19]') ELSE '[]' END,
	'playerCount', GREATEST((c.facts->>'playerCount')::int, CASE jsonb_typeof(c.facts->'players') WHEN 'array'
		THEN jsonb_array_length(c.facts->'players') ELSE 0 END),
	'facts', COALESCE((SELECT jsonb_object_agg(f.key, f.value - 'items') FROM jsonb_each(
		CASE jsonb_typeof(c.facts->'facts') WHEN 'object' THEN c.facts->'facts' ELSE '{}' END) f), '{}')) AS facts`

var briefColumns = strings.Replace(copyColumns, "c.facts", briefFacts, 1)

// CopiesOfAll gives the copies of some worlds that the vault has, in brief, newest first:
// those that are set aside, or those that are not.
func (r *Records) CopiesOfAll(ctx context.Context, worlds []int64, aside bool) (out []Copy, err error) {
	err = r.db.SelectContext(ctx, &out, `SELECT `+briefColumns+` FROM `+copyTables+`
		WHERE c.world_id IN (SELECT jsonb_array_elements($1::jsonb)::bigint) AND c.gone_at IS NULL
		AND (c.aside_at IS NOT NULL) = $2 ORDER BY c.arrived_no DESC`, JSON[[]int64]{worlds}, aside)
	return out, classify("list", "copies", err)
}
