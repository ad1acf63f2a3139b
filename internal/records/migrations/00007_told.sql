-- +goose Up
-- All that is told of a copy, as one text without differences of capitals: what a person
-- may remember of it.
ALTER TABLE copies ADD COLUMN told text NOT NULL DEFAULT '';
UPDATE copies SET told = lower(concat_ws(' ', id, kind, note, source, created_by, facts->>'title', facts->>'folder',
    (SELECT string_agg(concat_ws(' ', f.value->>'text',
        (SELECT string_agg(i->>'name', ' ') FROM jsonb_array_elements(CASE jsonb_typeof(f.value->'items') WHEN 'array' THEN f.value->'items' ELSE '[]' END) i)), ' ')
        FROM jsonb_each(CASE jsonb_typeof(facts->'facts') WHEN 'object' THEN facts->'facts' ELSE '{}' END) f),
    (SELECT string_agg(concat_ws(' ', p->>'name', p->>'id'), ' ')
        FROM jsonb_array_elements(CASE WHEN jsonb_typeof(facts->'players') = 'array' THEN facts->'players' ELSE '[]' END) p)));
CREATE INDEX copies_world ON copies (world_id);

-- +goose Down
DROP INDEX copies_world;
ALTER TABLE copies DROP COLUMN told;
