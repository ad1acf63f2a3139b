-- +goose Up
-- The machine's clock may be set, so nothing is ordered or measured by it: copies arrive and changeovers end in an
-- order, and how long steps take is told by a clock that nobody sets.
ALTER TABLE copies ADD arrived_no bigint;
UPDATE copies SET arrived_no = o.n FROM (
    SELECT id, row_number() OVER (ORDER BY created_at, id DESC) AS n FROM copies) o WHERE o.id = copies.id;
CREATE SEQUENCE copies_arrived OWNED BY copies.arrived_no;
SELECT setval('copies_arrived', (SELECT COALESCE(max(arrived_no), 0) + 1 FROM copies), false);
ALTER TABLE copies ALTER arrived_no SET DEFAULT nextval('copies_arrived'), ALTER arrived_no SET NOT NULL;

ALTER TABLE changeovers ADD ended_no bigint;
UPDATE changeovers SET ended_no = o.n FROM (
    SELECT id, row_number() OVER (ORDER BY ended_at, id) AS n FROM changeovers WHERE ended_at IS NOT NULL) o
    WHERE o.id = changeovers.id;
CREATE SEQUENCE changeovers_ended OWNED BY changeovers.ended_no;
SELECT setval('changeovers_ended', (SELECT COALESCE(max(ended_no), 0) + 1 FROM changeovers), false);

ALTER TABLE steps ADD intended_even timestamptz, ADD done_even timestamptz, ADD undone_even timestamptz;
UPDATE steps SET intended_even = intended_at, done_even = done_at, undone_even = undone_at;

-- +goose Down
ALTER TABLE steps DROP intended_even, DROP done_even, DROP undone_even;
ALTER TABLE changeovers DROP ended_no;
ALTER TABLE copies DROP arrived_no;
