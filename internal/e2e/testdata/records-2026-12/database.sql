SET statement_timeout = 0;
SET lock_timeout = 0;
SET idle_in_transaction_session_timeout = 0;
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
SELECT pg_catalog.set_config('search_path', '', false);
SET check_function_bodies = false;
SET xmloption = content;
SET client_min_messages = warning;
SET row_security = off;
CREATE TYPE public.river_job_state AS ENUM (
    'available',
    'cancelled',
    'completed',
    'discarded',
    'pending',
    'retryable',
    'running',
    'scheduled'
);
CREATE FUNCTION public.river_job_state_in_bitmask(bitmask bit, state public.river_job_state) RETURNS boolean
    LANGUAGE sql IMMUTABLE
    AS $$
    SELECT CASE state
        WHEN 'available' THEN get_bit(bitmask, 7)
        WHEN 'cancelled' THEN get_bit(bitmask, 6)
        WHEN 'completed' THEN get_bit(bitmask, 5)
        WHEN 'discarded' THEN get_bit(bitmask, 4)
        WHEN 'pending'   THEN get_bit(bitmask, 3)
        WHEN 'retryable' THEN get_bit(bitmask, 2)
        WHEN 'running'   THEN get_bit(bitmask, 1)
        WHEN 'scheduled' THEN get_bit(bitmask, 0)
        ELSE 0
    END = 1;
$$;
SET default_tablespace = '';
SET default_table_access_method = heap;
CREATE TABLE public.alerts (
    id bigint NOT NULL,
    kind text NOT NULL,
    of text NOT NULL,
    alert jsonb NOT NULL,
    begun_at timestamp with time zone DEFAULT now() NOT NULL,
    ended_at timestamp with time zone
);
CREATE SEQUENCE public.alerts_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.alerts_id_seq OWNED BY public.alerts.id;
CREATE TABLE public.apart (
    world_id bigint NOT NULL,
    other_id bigint NOT NULL,
    told_by text NOT NULL,
    told_at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT apart_check CHECK ((world_id < other_id))
);
CREATE TABLE public.backup_worlds (
    backup_id bigint NOT NULL,
    world text NOT NULL,
    copy_id text NOT NULL,
    as_before boolean NOT NULL,
    wholeness text NOT NULL,
    moved jsonb DEFAULT '[]'::jsonb NOT NULL,
    read bigint NOT NULL
);
CREATE TABLE public.backups (
    id bigint NOT NULL,
    server_id bigint,
    server text NOT NULL,
    rule_id bigint,
    changeover_id bigint,
    state text NOT NULL,
    due_at timestamp with time zone,
    begun_at timestamp with time zone DEFAULT now() NOT NULL,
    ended_at timestamp with time zone,
    counted_at timestamp with time zone NOT NULL,
    created_by text NOT NULL,
    note text DEFAULT ''::text NOT NULL,
    pinned boolean DEFAULT false NOT NULL,
    record text,
    about jsonb DEFAULT '{}'::jsonb NOT NULL,
    bytes bigint DEFAULT 0 NOT NULL,
    written bigint DEFAULT 0 NOT NULL,
    read_at timestamp with time zone,
    damage text DEFAULT ''::text NOT NULL,
    failure jsonb,
    aside_at timestamp with time zone,
    aside_by text DEFAULT ''::text NOT NULL,
    gone_at timestamp with time zone,
    CONSTRAINT backups_state_check CHECK ((state = ANY (ARRAY['running'::text, 'done'::text, 'failed'::text, 'gave-way'::text])))
);
CREATE SEQUENCE public.backups_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.backups_id_seq OWNED BY public.backups.id;
CREATE TABLE public.builds (
    one boolean DEFAULT true NOT NULL,
    oldest text NOT NULL,
    changed text NOT NULL,
    CONSTRAINT builds_one_check CHECK (one)
);
CREATE TABLE public.changeovers (
    id bigint NOT NULL,
    server_id bigint NOT NULL,
    kind text NOT NULL,
    state text NOT NULL,
    plan jsonb NOT NULL,
    sheet jsonb,
    copy_id text,
    undoes bigint,
    proof jsonb,
    failure jsonb,
    created_by text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    started_at timestamp with time zone,
    ended_at timestamp with time zone,
    source_id bigint,
    ended_no bigint,
    before jsonb
);
CREATE SEQUENCE public.changeovers_ended
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.changeovers_ended OWNED BY public.changeovers.ended_no;
CREATE SEQUENCE public.changeovers_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.changeovers_id_seq OWNED BY public.changeovers.id;
CREATE TABLE public.claimed_folders (
    server_id bigint NOT NULL,
    folder text NOT NULL,
    changeover_id bigint NOT NULL
);
CREATE TABLE public.claimed_servers (
    server_id bigint NOT NULL,
    claimed_at timestamp with time zone NOT NULL
);
CREATE TABLE public.copies (
    id text NOT NULL,
    world_id bigint NOT NULL,
    kind text NOT NULL,
    facts jsonb NOT NULL,
    bytes bigint NOT NULL,
    files bigint NOT NULL,
    source text NOT NULL,
    created_by text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    note text DEFAULT ''::text NOT NULL,
    pinned boolean DEFAULT false NOT NULL,
    aside_at timestamp with time zone,
    aside_by text DEFAULT ''::text NOT NULL,
    gone_at timestamp with time zone,
    server_id bigint,
    changeover_id bigint,
    made_of text,
    told text DEFAULT ''::text NOT NULL,
    arrived_no bigint NOT NULL,
    CONSTRAINT copies_kind_check CHECK ((kind = ANY (ARRAY['arrival'::text, 'backup'::text, 'safety'::text, 'edited'::text])))
);
CREATE SEQUENCE public.copies_arrived
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.copies_arrived OWNED BY public.copies.arrived_no;
CREATE TABLE public.counted (
    one boolean DEFAULT true NOT NULL,
    at timestamp with time zone NOT NULL,
    CONSTRAINT counted_one_check CHECK (one)
);
CREATE TABLE public.findings (
    id bigint NOT NULL,
    at timestamp with time zone DEFAULT now() NOT NULL,
    store text NOT NULL,
    pack text NOT NULL,
    what text NOT NULL,
    mended boolean NOT NULL
);
CREATE SEQUENCE public.findings_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.findings_id_seq OWNED BY public.findings.id;
CREATE TABLE public.first_seen (
    what text NOT NULL,
    at timestamp with time zone NOT NULL
);
CREATE TABLE public.found_folders (
    server_id bigint NOT NULL,
    folder text NOT NULL,
    found_at timestamp with time zone NOT NULL,
    last bigint NOT NULL,
    kept_by text,
    kept_at timestamp with time zone
);
CREATE TABLE public.goose_db_version (
    id integer NOT NULL,
    version_id bigint NOT NULL,
    is_applied boolean NOT NULL,
    tstamp timestamp without time zone DEFAULT now() NOT NULL
);
ALTER TABLE public.goose_db_version ALTER COLUMN id ADD GENERATED BY DEFAULT AS IDENTITY (
    SEQUENCE NAME public.goose_db_version_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE public.holds (
    server_id bigint NOT NULL,
    changeover_id bigint NOT NULL
);
CREATE TABLE public.hosts (
    id bigint NOT NULL,
    name text NOT NULL,
    kind text NOT NULL,
    machine text DEFAULT ''::text NOT NULL,
    data text DEFAULT ''::text NOT NULL,
    settings jsonb DEFAULT '{}'::jsonb NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    sealed bytea,
    found jsonb,
    removed_at timestamp with time zone,
    provider jsonb
);
CREATE SEQUENCE public.hosts_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.hosts_id_seq OWNED BY public.hosts.id;
CREATE TABLE public.keys (
    hash bytea NOT NULL,
    user_id bigint NOT NULL,
    kind text NOT NULL,
    label text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    expires_at timestamp with time zone NOT NULL,
    CONSTRAINT keys_kind_check CHECK ((kind = ANY (ARRAY['session'::text, 'token'::text])))
);
CREATE TABLE public.known_files (
    server_id bigint NOT NULL,
    world text NOT NULL,
    copy_id text NOT NULL,
    whole_at timestamp with time zone NOT NULL,
    files bytea NOT NULL
);
CREATE TABLE public.landmarks (
    id bigint NOT NULL,
    world_id bigint NOT NULL,
    say text NOT NULL,
    place text DEFAULT ''::text NOT NULL,
    created_by text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE SEQUENCE public.landmarks_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.landmarks_id_seq OWNED BY public.landmarks.id;
CREATE TABLE public.notice_targets (
    id bigint NOT NULL,
    name text NOT NULL,
    settings jsonb NOT NULL,
    sealed bytea,
    created_by text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    told_at timestamp with time zone,
    trouble text DEFAULT ''::text NOT NULL,
    trouble_since timestamp with time zone
);
CREATE SEQUENCE public.notice_targets_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.notice_targets_id_seq OWNED BY public.notice_targets.id;
CREATE TABLE public.profiles (
    id bigint NOT NULL,
    game text NOT NULL,
    version integer NOT NULL,
    document text NOT NULL,
    created_by text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    withdrawn_at timestamp with time zone
);
CREATE SEQUENCE public.profiles_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.profiles_id_seq OWNED BY public.profiles.id;
CREATE TABLE public.river_job (
    id bigint NOT NULL,
    state public.river_job_state DEFAULT 'available'::public.river_job_state NOT NULL,
    attempt smallint DEFAULT 0 NOT NULL,
    max_attempts smallint DEFAULT 25 NOT NULL,
    attempted_at timestamp with time zone,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    finalized_at timestamp with time zone,
    scheduled_at timestamp with time zone DEFAULT now() NOT NULL,
    priority smallint DEFAULT 1 NOT NULL,
    args jsonb NOT NULL,
    attempted_by text[],
    errors jsonb[],
    kind text NOT NULL,
    metadata jsonb DEFAULT '{}'::jsonb NOT NULL,
    queue text DEFAULT 'default'::text NOT NULL,
    tags character varying(255)[] DEFAULT '{}'::character varying[] NOT NULL,
    unique_key bytea,
    unique_states bit(8),
    CONSTRAINT finalized_or_finalized_at_null CHECK ((((finalized_at IS NULL) AND (state <> ALL (ARRAY['cancelled'::public.river_job_state, 'completed'::public.river_job_state, 'discarded'::public.river_job_state]))) OR ((finalized_at IS NOT NULL) AND (state = ANY (ARRAY['cancelled'::public.river_job_state, 'completed'::public.river_job_state, 'discarded'::public.river_job_state]))))),
    CONSTRAINT kind_length CHECK (((char_length(kind) > 0) AND (char_length(kind) < 128))),
    CONSTRAINT max_attempts_is_positive CHECK ((max_attempts > 0)),
    CONSTRAINT priority_in_range CHECK (((priority >= 1) AND (priority <= 4))),
    CONSTRAINT queue_length CHECK (((char_length(queue) > 0) AND (char_length(queue) < 128)))
);
CREATE SEQUENCE public.river_job_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.river_job_id_seq OWNED BY public.river_job.id;
CREATE UNLOGGED TABLE public.river_leader (
    elected_at timestamp with time zone NOT NULL,
    expires_at timestamp with time zone NOT NULL,
    leader_id text NOT NULL,
    name text DEFAULT 'default'::text NOT NULL,
    CONSTRAINT leader_id_length CHECK (((char_length(leader_id) > 0) AND (char_length(leader_id) < 128))),
    CONSTRAINT name_length CHECK ((name = 'default'::text))
);
CREATE TABLE public.river_migration (
    line text NOT NULL,
    version bigint NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    CONSTRAINT line_length CHECK (((char_length(line) > 0) AND (char_length(line) < 128))),
    CONSTRAINT version_gte_1 CHECK ((version >= 1))
);
CREATE TABLE public.river_notification (
    id bigint NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    payload text NOT NULL,
    topic text NOT NULL,
    CONSTRAINT topic_length CHECK (((length(topic) > 0) AND (length(topic) < 128)))
);
CREATE SEQUENCE public.river_notification_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.river_notification_id_seq OWNED BY public.river_notification.id;
CREATE TABLE public.river_queue (
    name text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    metadata jsonb DEFAULT '{}'::jsonb NOT NULL,
    paused_at timestamp with time zone,
    updated_at timestamp with time zone DEFAULT CURRENT_TIMESTAMP NOT NULL
);
CREATE TABLE public.rules (
    id bigint NOT NULL,
    server_id bigint NOT NULL,
    name text NOT NULL,
    rule jsonb NOT NULL,
    due_at timestamp with time zone,
    begun_at timestamp with time zone,
    paused_at timestamp with time zone,
    paused_by text DEFAULT ''::text NOT NULL,
    created_by text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    removed_at timestamp with time zone,
    slots_trouble text DEFAULT ''::text NOT NULL,
    slots_at timestamp with time zone
);
CREATE SEQUENCE public.rules_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.rules_id_seq OWNED BY public.rules.id;
CREATE TABLE public.running_worlds (
    server_id bigint NOT NULL,
    said jsonb,
    other jsonb,
    other_since timestamp with time zone
);
CREATE TABLE public.servers (
    id bigint NOT NULL,
    name text NOT NULL,
    game text NOT NULL,
    kind text NOT NULL,
    root text NOT NULL,
    command jsonb NOT NULL,
    env jsonb DEFAULT '{}'::jsonb NOT NULL,
    declared_version text DEFAULT ''::text NOT NULL,
    wanted text DEFAULT 'stopped'::text NOT NULL,
    last_start_ms bigint DEFAULT '-1'::integer NOT NULL,
    last_stop_ms bigint DEFAULT '-1'::integer NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    removed_at timestamp with time zone,
    system text DEFAULT ''::text NOT NULL,
    host_id bigint NOT NULL,
    means jsonb DEFAULT '{}'::jsonb NOT NULL,
    game_root text DEFAULT ''::text NOT NULL,
    asked jsonb,
    CONSTRAINT servers_wanted_check CHECK ((wanted = ANY (ARRAY['running'::text, 'stopped'::text])))
);
CREATE SEQUENCE public.servers_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.servers_id_seq OWNED BY public.servers.id;
CREATE TABLE public.service_lease (
    one boolean DEFAULT true NOT NULL,
    holder text DEFAULT ''::text NOT NULL,
    who text DEFAULT ''::text NOT NULL,
    data text DEFAULT ''::text NOT NULL,
    alone boolean DEFAULT false NOT NULL,
    epoch bigint DEFAULT 0 NOT NULL,
    beat bigint DEFAULT 0 NOT NULL,
    CONSTRAINT service_lease_one_check CHECK (one)
);
CREATE TABLE public.settings (
    name text NOT NULL,
    value jsonb NOT NULL
);
CREATE TABLE public.sightings (
    changeover_id bigint NOT NULL,
    landmark_id bigint NOT NULL,
    seen boolean NOT NULL,
    told_by text NOT NULL,
    told_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE public.steps (
    changeover_id bigint NOT NULL,
    n integer NOT NULL,
    kind text NOT NULL,
    state text NOT NULL,
    detail jsonb,
    intended_at timestamp with time zone,
    done_at timestamp with time zone,
    undone_at timestamp with time zone,
    intended_even timestamp with time zone,
    done_even timestamp with time zone,
    undone_even timestamp with time zone,
    CONSTRAINT steps_state_check CHECK ((state = ANY (ARRAY['planned'::text, 'intended'::text, 'done'::text, 'undone'::text])))
);
CREATE TABLE public.store_packs (
    store_id bigint NOT NULL,
    pack text NOT NULL,
    bytes bigint NOT NULL,
    key text NOT NULL,
    sum bytea NOT NULL,
    stored_at timestamp with time zone NOT NULL,
    checked_at timestamp with time zone NOT NULL,
    unneeded_at timestamp with time zone,
    listed boolean DEFAULT false NOT NULL,
    ours boolean DEFAULT false NOT NULL,
    trouble text DEFAULT ''::text NOT NULL
);
CREATE TABLE public.store_waits (
    store_id bigint NOT NULL,
    pack text NOT NULL,
    tries integer NOT NULL,
    again_at timestamp with time zone NOT NULL,
    trouble text NOT NULL
);
CREATE TABLE public.stores (
    id bigint NOT NULL,
    name text NOT NULL,
    settings jsonb NOT NULL,
    sealed bytea,
    created_by text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    reached_at timestamp with time zone,
    trouble text DEFAULT ''::text NOT NULL,
    trouble_since timestamp with time zone,
    removed_at timestamp with time zone,
    mark jsonb,
    writes boolean DEFAULT true NOT NULL,
    surveyed_at timestamp with time zone,
    confirmed_at timestamp with time zone,
    confirmed_by text DEFAULT ''::text NOT NULL,
    asks text DEFAULT ''::text NOT NULL,
    asks_since timestamp with time zone,
    trouble_next text DEFAULT ''::text NOT NULL
);
CREATE SEQUENCE public.stores_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.stores_id_seq OWNED BY public.stores.id;
CREATE TABLE public.tidied (
    changeover_id bigint NOT NULL,
    bytes bigint NOT NULL,
    tidied_by text NOT NULL,
    tidied_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE TABLE public.upkeep (
    task text NOT NULL,
    done_at timestamp with time zone NOT NULL
);
CREATE TABLE public.users (
    id bigint NOT NULL,
    name text NOT NULL,
    password text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL
);
CREATE SEQUENCE public.users_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.users_id_seq OWNED BY public.users.id;
CREATE TABLE public.vault_entries (
    kind smallint NOT NULL,
    name bytea NOT NULL,
    pack text NOT NULL,
    start bigint NOT NULL,
    stored bigint NOT NULL,
    coding smallint NOT NULL,
    size bigint NOT NULL
);
CREATE TABLE public.vault_packs (
    id text NOT NULL,
    bytes bigint NOT NULL,
    made_at timestamp with time zone NOT NULL,
    checked_at timestamp with time zone
);
CREATE TABLE public.worlds (
    id bigint NOT NULL,
    name text NOT NULL,
    game text NOT NULL,
    title text NOT NULL,
    created_at timestamp with time zone DEFAULT now() NOT NULL,
    note text DEFAULT ''::text NOT NULL,
    tags jsonb DEFAULT '[]'::jsonb NOT NULL
);
CREATE SEQUENCE public.worlds_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1;
ALTER SEQUENCE public.worlds_id_seq OWNED BY public.worlds.id;
ALTER TABLE ONLY public.alerts ALTER COLUMN id SET DEFAULT nextval('public.alerts_id_seq'::regclass);
ALTER TABLE ONLY public.backups ALTER COLUMN id SET DEFAULT nextval('public.backups_id_seq'::regclass);
ALTER TABLE ONLY public.changeovers ALTER COLUMN id SET DEFAULT nextval('public.changeovers_id_seq'::regclass);
ALTER TABLE ONLY public.copies ALTER COLUMN arrived_no SET DEFAULT nextval('public.copies_arrived'::regclass);
ALTER TABLE ONLY public.findings ALTER COLUMN id SET DEFAULT nextval('public.findings_id_seq'::regclass);
ALTER TABLE ONLY public.hosts ALTER COLUMN id SET DEFAULT nextval('public.hosts_id_seq'::regclass);
ALTER TABLE ONLY public.landmarks ALTER COLUMN id SET DEFAULT nextval('public.landmarks_id_seq'::regclass);
ALTER TABLE ONLY public.notice_targets ALTER COLUMN id SET DEFAULT nextval('public.notice_targets_id_seq'::regclass);
ALTER TABLE ONLY public.profiles ALTER COLUMN id SET DEFAULT nextval('public.profiles_id_seq'::regclass);
ALTER TABLE ONLY public.river_job ALTER COLUMN id SET DEFAULT nextval('public.river_job_id_seq'::regclass);
ALTER TABLE ONLY public.river_notification ALTER COLUMN id SET DEFAULT nextval('public.river_notification_id_seq'::regclass);
ALTER TABLE ONLY public.rules ALTER COLUMN id SET DEFAULT nextval('public.rules_id_seq'::regclass);
ALTER TABLE ONLY public.servers ALTER COLUMN id SET DEFAULT nextval('public.servers_id_seq'::regclass);
ALTER TABLE ONLY public.stores ALTER COLUMN id SET DEFAULT nextval('public.stores_id_seq'::regclass);
ALTER TABLE ONLY public.users ALTER COLUMN id SET DEFAULT nextval('public.users_id_seq'::regclass);
ALTER TABLE ONLY public.worlds ALTER COLUMN id SET DEFAULT nextval('public.worlds_id_seq'::regclass);
INSERT INTO public.builds VALUES (true, '0.1.0', '0.1.0');
INSERT INTO public.changeovers VALUES (1, 1, 'put', 'drafted', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/1-444dda44", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/1-444dda44/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/1-444dda44/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/1-444dda44/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/1-444dda44/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/1-444dda44/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/1-444dda44/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/drafted/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "drafted", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 7, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, NULL, 'warden', '2026-12-01 22:13:01.571498+00', NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.changeovers VALUES (2, 2, 'put', 'staging', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/2-230754f7", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/2-230754f7/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/2-230754f7/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/2-230754f7/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/2-230754f7/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/2-230754f7/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/2-230754f7/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/staging/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "staging", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 7, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, NULL, 'warden', '2026-12-01 22:13:01.598185+00', '2026-12-01 22:13:01.620281+00', NULL, NULL, NULL, NULL);
INSERT INTO public.changeovers VALUES (3, 3, 'put', 'waiting', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/3-e4eccd3c", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/3-e4eccd3c/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/3-e4eccd3c/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/3-e4eccd3c/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Wait for a person''s word before the switch: all is staged, and people still play.", "kind": "wait", "until": "word", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/3-e4eccd3c/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/3-e4eccd3c/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/3-e4eccd3c/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/waiting/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "waiting", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 7, "stopping": -1}, "worlds": "worlds", "choices": {"switch": "when-told"}, "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, NULL, 'warden', '2026-12-01 22:13:01.646902+00', '2026-12-01 22:13:01.665071+00', NULL, NULL, NULL, NULL);
INSERT INTO public.changeovers VALUES (8, 8, 'put', 'done', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/8-c8fc4d4b", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/8-c8fc4d4b/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/8-c8fc4d4b/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/8-c8fc4d4b/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/8-c8fc4d4b/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/8-c8fc4d4b/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/8-c8fc4d4b/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/done/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "done", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 7, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, '{"world": {"seed": "222", "folder": "fen", "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "fen", "what": "the log names the opened world", "expected": "fen"}, {"ok": true, "seen": "222", "what": "the console answers seed", "expected": "222"}, {"ok": true, "seen": "a45deff3-7de8-5fcc-b0b6-303183146e5c", "what": "world id in heart.cbor.gz", "expected": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "fen", "what": "world.folder in quarry.properties", "aside": true, "expected": "fen"}, {"ok": true, "seen": "222", "what": "world.seed in quarry.properties", "aside": true, "expected": "222"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "6 of 6 blocks the same", "what": "files stand as they were placed", "expected": "at least 3 of 4 of 6 sampled blocks in 6 files, and no file gone"}, {"ok": true, "seen": "account 0:0 may write all 14 that were looked at", "what": "the server''s account may write its world", "expected": "every file"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}', NULL, 'warden', '2026-12-01 22:13:03.178584+00', '2026-12-01 22:13:03.193862+00', '2026-12-01 22:13:03.784797+00', NULL, 2, '{"seen": {"winter": {"id": "27:6937403", "modified": "2026-12-01T22:12:59.38977622Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:12:59.38977622Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (4, 4, 'put', 'switching', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/4-983992d4", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/4-983992d4/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/4-983992d4/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/4-983992d4/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/4-983992d4/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/4-983992d4/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/4-983992d4/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/switching/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "switching", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 15, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, NULL, 'warden', '2026-12-01 22:13:01.707092+00', '2026-12-01 22:13:01.722096+00', NULL, NULL, NULL, '{"seen": {"winter": {"id": "27:6937263", "modified": "2026-12-01T22:12:57.231981954Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:12:57.231981954Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (9, 9, 'reset', 'done', '{"kind": "reset", "work": ".reshard/9-7dd607bc", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n world.folder=winter\n-world.seed=111\n+world.seed=-77\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/9-7dd607bc/aside; nothing is deleted. reshard undo brings it back."], "steps": [{"dir": "worlds/winter", "old": true, "say": "Take samples of the old world, to show that the ground is new.", "kind": "sample", "world": "winter", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/9-7dd607bc/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"say": "Write world.seed=-77 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/9-7dd607bc/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.seed", "was": "111", "value": "-77", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that a new world runs: its seed, and that its ground is new.", "kind": "prove", "switch": false}], "world": "", "expect": {"seed": "-77", "fresh": true, "oldId": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2", "folder": "winter", "opened": ["winter", "worlds/winter", "@HOME@/servers/reset/worlds/winter"], "folders": null, "oldSeed": "111", "players": -1}, "folder": "winter", "server": "reset", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 17, "stopping": -1}, "worlds": "worlds", "choices": {"seed": "-77"}, "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 0}', '{"rows": [{"say": "The old world “winter” leaves its place, and is kept.", "mend": "Set “winter” aside; let the server make a new world under the name “winter”.", "title": "New world", "world": {"text": "a new one"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "new-world", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“winter”, 6 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The new world gets the seed -77.", "mend": "Write world.seed=-77 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "old world: 111"}, "server": {"text": ""}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": ""}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "winter", "verdict": "adjust"}', NULL, NULL, '{"world": {"seed": "-77", "folder": "winter", "worldId": "d4ccda16-73d3-5661-8a59-57a1a9cc4a29"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "winter", "what": "the log names the opened world", "expected": "winter"}, {"ok": true, "seen": "-77", "what": "the console answers seed", "expected": "-77"}, {"ok": true, "seen": "12 of 12", "what": "files made since the old world was gone", "expected": "all of them"}, {"ok": true, "seen": "d4ccda16-73d3-5661-8a59-57a1a9cc4a29", "what": "another world id in heart.cbor.gz", "expected": "not 69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, {"ok": true, "seen": "0 of 18 blocks of the old world", "what": "the ground is new", "expected": "at most 1 in 4 of 18 sampled blocks of the old world"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "-77", "what": "world.seed in quarry.properties", "aside": true, "expected": "-77"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}', NULL, 'warden', '2026-12-01 22:13:03.815751+00', '2026-12-01 22:13:03.83042+00', '2026-12-01 22:13:04.40803+00', NULL, 3, '{"seen": {"winter": {"id": "27:6937438", "modified": "2026-12-01T22:12:59.923619225Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:12:59.923619225Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (10, 10, 'rename', 'done', '{"kind": "rename", "work": ".reshard/10-1324eaf4", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n+world.folder=summer\n world.seed=111\n"}], "notes": [], "steps": [{"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"as": "summer", "dir": "worlds/winter", "say": "Take samples of the world, to compare after the start.", "kind": "sample", "world": "winter", "switch": true}, {"to": "worlds/summer", "say": "Rename worlds/winter to worlds/summer.", "from": "worlds/winter", "kind": "move", "switch": true}, {"say": "Write world.folder=summer into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/10-1324eaf4/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "summer", "world": "name", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Winter Beds", "expect": {"seed": "111", "title": "Winter Beds", "folder": "summer", "opened": ["summer", "worlds/summer", "@HOME@/servers/renamed/worlds/summer"], "folders": ["summer"], "players": -1, "worldId": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, "folder": "summer", "server": "renamed", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 15, "stopping": -1}, "worlds": "worlds", "choices": {"folder-name": "summer"}, "version": "2.5.1", "setAside": [], "needBytes": 0}', '{"rows": [{"say": "The world “winter” becomes “summer” on disk. Its title stays “Winter Beds”.", "mend": "Write world.folder=summer into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“winter”, title “Winter Beds”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“summer”, 6 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": ""}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "summer", "verdict": "adjust"}', NULL, NULL, '{"world": {"seed": "111", "folder": "summer", "worldId": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "summer", "what": "the log names the opened world", "expected": "summer"}, {"ok": true, "seen": "111", "what": "the console answers seed", "expected": "111"}, {"ok": true, "seen": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2", "what": "world id in heart.cbor.gz", "expected": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "summer", "what": "world.folder in quarry.properties", "aside": true, "expected": "summer"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "18 of 18 blocks the same", "what": "files stand as they were placed", "expected": "at least 3 of 4 of 18 sampled blocks in 18 files, and no file gone"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}', NULL, 'warden', '2026-12-01 22:13:04.43197+00', '2026-12-01 22:13:04.444905+00', '2026-12-01 22:13:05.020916+00', NULL, 4, '{"seen": {"winter": {"id": "27:6937473", "modified": "2026-12-01T22:13:00.460751935Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:13:00.460751935Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (6, 6, 'put', 'undoing', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/6-fddf41b0", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/6-fddf41b0/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/6-fddf41b0/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/6-fddf41b0/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/6-fddf41b0/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/6-fddf41b0/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/6-fddf41b0/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/undoing/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "undoing", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 16, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, '{"code": "not-proven", "next": "The game has fen-spare open. Check what sets its world''s name.", "what": "step 8 (prove) on undoing: prove fen: the log names the opened world: expected fen, saw fen-spare; no other world is open: expected no lock, saw worlds/fen-spare/held.lock; no other new world: expected none, saw fen-spare"}', 'warden', '2026-12-01 22:13:02.400246+00', '2026-12-01 22:13:02.415825+00', NULL, NULL, NULL, '{"seen": {"winter": {"id": "27:6937333", "modified": "2026-12-01T22:12:58.313269986Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:12:58.313269986Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (5, 5, 'put', 'proving', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/5-5fd49a04", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/5-5fd49a04/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/5-5fd49a04/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/5-5fd49a04/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/5-5fd49a04/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/5-5fd49a04/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/5-5fd49a04/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/proving/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "proving", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 16, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, NULL, 'warden', '2026-12-01 22:13:01.775598+00', '2026-12-01 22:13:01.791538+00', NULL, NULL, NULL, '{"seen": {"winter": {"id": "27:6937298", "modified": "2026-12-01T22:12:57.770488572Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:12:57.770488572Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (11, 11, 'put', 'undone', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/11-9aa12133", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/11-9aa12133/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/11-9aa12133/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/11-9aa12133/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/11-9aa12133/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/11-9aa12133/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/11-9aa12133/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/undone/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "undone", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 16, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, '{"code": "not-ready", "next": "Read the last lines of the server''s log: they usually say why.", "what": "step 7 (start) on undone: start undone: it exited with code 3 before it was ready; its log says: 22:13:05.138 opening world \"fen\" / 22:13:05.139 out of peat"}', 'warden', '2026-12-01 22:13:05.0486+00', '2026-12-01 22:13:05.064219+00', '2026-12-01 22:13:05.694796+00', NULL, 5, '{"seen": {"winter": {"id": "27:6937508", "modified": "2026-12-01T22:13:00.996316403Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:13:00.996316403Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (7, 7, 'put', 'held', '{"copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "put", "work": ".reshard/7-563b4790", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n-world.folder=winter\n-world.seed=111\n+world.folder=fen\n+world.seed=222\n"}], "notes": ["What is set aside stays on the server''s disk in .reshard/7-563b4790/aside; nothing is deleted. reshard undo brings it back.", "The server''s 2.5.1 is newer and upgrades the world for good when it opens it. Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it."], "steps": [{"say": "Write the world''s files beside the live world and verify each.", "copy": "f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d", "kind": "stage", "bytes": 4873, "files": 7, "routes": [{"to": ".reshard/7-563b4790/staged/fen", "part": "", "under": ""}], "switch": false}, {"dir": ".reshard/7-563b4790/staged/fen", "say": "Take samples of the staged files, to compare after the start.", "kind": "sample", "world": "fen", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/7-563b4790/aside/winter", "say": "Set worlds/winter aside.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/fen", "say": "Place worlds/fen.", "from": ".reshard/7-563b4790/staged/fen", "kind": "move", "switch": true}, {"say": "Write world.folder=fen and world.seed=222 into quarry.properties; every other byte stays.", "file": "quarry.properties", "keep": ".reshard/7-563b4790/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.folder", "was": "winter", "value": "fen", "world": "name", "wasSet": true}, {"key": "world.seed", "was": "111", "value": "222", "wasSet": true}], "switch": true, "syntax": {"format": "properties"}}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Fen", "expect": {"seed": "222", "title": "Fen", "folder": "fen", "opened": ["fen", "worlds/fen", "@HOME@/servers/held/worlds/fen"], "folders": ["fen"], "players": 0, "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "folder": "fen", "server": "held", "stands": {"keys": {"seed": "111", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}, "names": ["winter"]}, "window": {"ours": 50, "starting": 16, "stopping": -1}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 4873}', '{"rows": [{"say": "The server runs this game and reads the world''s family.", "title": "Game and family", "world": {"from": "heart.cbor.gz", "text": "quarrymoss, family moss"}, "server": {"text": "quarrymoss, kind plain, reads moss"}, "concern": "game", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server''s 2.5.1 is newer and upgrades the world for good when it opens it.", "mend": "Nothing to write. The library''s copy stays at 2.4.0; there is no other way back to it.", "title": "Version", "world": {"from": "heart.cbor.gz", "text": "2.4.0"}, "server": {"from": "server.json", "text": "2.5.1"}, "concern": "version", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "The setting does not name “fen”.", "mend": "Write world.folder=fen into quarry.properties.", "title": "Name on disk", "world": {"from": "the name on disk", "text": "“fen”, title “Fen”"}, "server": {"from": "worlds/", "text": "“winter” (active)"}, "concern": "folder-name", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 2, world.folder", "text": "“winter”"}}, {"say": "Every character is allowed.", "title": "Allowed characters", "world": {"text": "“fen”, 3 characters"}, "server": {"from": "game profile", "text": "A-Za-z0-9_-, at most 48"}, "concern": "characters", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world keeps its title.", "idle": true, "title": "Title", "world": {"from": "heart.cbor.gz", "text": "“Fen”"}, "server": {"text": ""}, "concern": "title", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No source hides another.", "idle": true, "title": "Where settings come from", "world": {"text": ""}, "server": {"from": "game profile", "text": "worlds/"}, "concern": "sources", "options": [], "verdict": "fits", "settings": {"text": "each key stands in one place"}}, {"say": "The setting that names the world needs no other beside it.", "idle": true, "title": "Flags beside it", "world": {"text": ""}, "server": {"text": ""}, "concern": "flags", "options": [], "verdict": "fits", "settings": {"text": "none needed"}}, {"say": "Nothing in the world beats the server''s settings.", "idle": true, "title": "Files that beat the server", "world": {"text": "none"}, "server": {"text": ""}, "concern": "overrides", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "World and server keep realms in the same way.", "title": "Realm layout", "world": {"text": "nested: aurora, caverns"}, "server": {"from": "kind plain", "text": "nested"}, "concern": "realms", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "No realm folders of worlds that are gone.", "idle": true, "title": "Leftovers", "world": {"text": ""}, "server": {"text": "none"}, "concern": "leftovers", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The settings hold another seed. It would decide what a later reset generates.", "mend": "Write world.seed=222 into quarry.properties.", "title": "Seed", "world": {"from": "heart.cbor.gz", "text": "222"}, "server": {"from": "active world “winter”", "text": "111"}, "concern": "seed", "options": [], "verdict": "adjust", "settings": {"from": "quarry.properties line 3, world.seed", "text": "111"}}, {"say": "Neither has mods.", "idle": true, "title": "Mods", "world": {"from": "heart.cbor.gz", "text": "none"}, "server": {"from": "server.json", "text": "none"}, "concern": "mods", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no player records: everybody starts anew.", "idle": true, "title": "Player records", "world": {"text": "none"}, "server": {"text": "stays with “winter”, set aside"}, "concern": "players", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The world brings no settings that differ from the server''s.", "idle": true, "title": "Settings of the world", "world": {"text": ""}, "server": {"text": ""}, "concern": "world-settings", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Everything is there that the game profile names.", "title": "Completeness", "world": {"text": "7 files"}, "server": {"text": ""}, "concern": "completeness", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Readable, and every key stands once.", "title": "Settings files", "world": {"text": ""}, "server": {"text": ""}, "concern": "settings", "options": [], "verdict": "fits", "settings": {"text": "quarry.properties"}}, {"say": "The game needs no start before a world is put.", "idle": true, "title": "First start", "world": {"text": ""}, "server": {"text": "made"}, "concern": "first-start", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The running server holds its world, as it should.", "title": "Lock files", "world": {"text": "none"}, "server": {"text": "held.lock"}, "concern": "locks", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The server is running.", "mend": "Stage while people play, then stop it cleanly, and start it again.", "title": "Running state", "world": {"text": ""}, "server": {"text": "running"}, "concern": "running", "options": [], "verdict": "adjust", "settings": {"text": ""}}, {"say": "Nothing else that Reshard can see works in the server''s folder. 1 process of other accounts could not be looked into.", "title": "Other processes", "world": {"text": ""}, "server": {"text": "none"}, "concern": "processes", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "What is placed will belong to whom the worlds there belong to, with the same modes.", "idle": true, "title": "Owner of files", "world": {"text": ""}, "server": {"from": "worlds", "text": "0:0"}, "concern": "owner", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "The host can do all that a changeover relies on.", "idle": true, "title": "Host", "world": {"text": ""}, "server": {"text": "local"}, "concern": "host", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "Every staged file is read back whole and compared.", "idle": true, "title": "Comparing", "world": {"text": ""}, "server": {"text": "whole, read back"}, "concern": "comparison", "options": [], "verdict": "fits", "settings": {"text": ""}}, {"say": "There is room for both worlds.", "title": "Free space", "world": {"text": "4.8 KiB in 7 files"}, "server": {"text": "23 GiB free"}, "concern": "space", "options": [], "verdict": "fits", "settings": {"text": ""}}], "folder": "fen", "verdict": "adjust"}', 'f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', NULL, NULL, '{"code": "held", "next": "Done and not taken back: “Write the world''s files beside the live world and verify each”, “Stop the server cleanly. Players are locked out from here”, “Set worlds/winter aside”. Once it can be done, reshard undo 7 tries to go back once more; or put it right by hand, and say so: reshard changeovers settle 7.", "what": "step 7 (start) on held: start held: it exited with code 3 before it was ready; its log says: 22:13:03.127 opening world \"fen\" / 22:13:03.128 out of peat; and then: take back step 4 (move) on held: move .reshard/7-563b4790/aside/winter: worlds/winter is there as well"}', 'warden', '2026-12-01 22:13:03.034664+00', '2026-12-01 22:13:03.053978+00', '2026-12-01 22:13:03.161272+00', NULL, 1, '{"seen": {"winter": {"id": "27:6937368", "modified": "2026-12-01T22:12:58.852902982Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:12:58.852902982Z"}, "names": ["winter"]}');
INSERT INTO public.changeovers VALUES (12, 9, 'undo', 'done', '{"kind": "undo", "work": ".reshard/12-06ab2d08", "diffs": [{"file": "quarry.properties", "text": "--- quarry.properties\n+++ quarry.properties\n@@ -1,3 +1,3 @@\n listen.port=0\n world.folder=winter\n-world.seed=-77\n+world.seed=111\n"}], "notes": ["What was played since is kept in .reshard/12-06ab2d08/aside; nothing is deleted, and this undo can be undone."], "steps": [{"dir": ".reshard/9-7dd607bc/aside/winter", "say": "Take samples of the former world, to compare after the start.", "kind": "sample", "world": "winter", "switch": false}, {"say": "Stop the server cleanly. Players are locked out from here.", "kind": "stop", "switch": true}, {"to": ".reshard/12-06ab2d08/aside/winter", "say": "Set worlds/winter aside, with what was played since.", "from": "worlds/winter", "kind": "move", "switch": true}, {"to": "worlds/winter", "say": "Bring worlds/winter back.", "from": ".reshard/9-7dd607bc/aside/winter", "kind": "move", "switch": true}, {"say": "Put quarry.properties back as it was.", "file": "quarry.properties", "keep": ".reshard/12-06ab2d08/settings/quarry.properties", "kind": "write", "edits": [{"key": "world.seed", "was": "-77", "value": "111", "wasSet": true}], "ifHash": "ba4d815b21c38b8385e1e650db444adc10ef5521a4397263f48563a486f24a3f", "switch": true, "syntax": {"format": "properties"}, "restoreFrom": ".reshard/9-7dd607bc/settings/quarry.properties"}, {"say": "Start the server and wait until it is ready.", "kind": "start", "switch": true}, {"say": "Prove that the intended world is the one running.", "kind": "prove", "switch": false}], "world": "Winter Beds", "expect": {"seed": "111", "title": "Winter Beds", "folder": "winter", "opened": ["winter", "worlds/winter", "@HOME@/servers/reset/worlds/winter"], "folders": ["winter"], "players": -1, "worldId": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, "folder": "winter", "server": "reset", "stands": {"keys": {"seed": "-77", "welcome": "", "active-world": "winter"}, "files": {"quarry.properties": "ba4d815b21c38b8385e1e650db444adc10ef5521a4397263f48563a486f24a3f"}, "names": ["winter"]}, "undoes": 9, "window": {"ours": 50, "starting": 15, "stopping": 7}, "worlds": "worlds", "version": "2.5.1", "setAside": ["worlds/winter"], "needBytes": 0}', '{"rows": null, "folder": "", "verdict": ""}', NULL, 9, '{"world": {"seed": "111", "folder": "winter", "worldId": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "winter", "what": "the log names the opened world", "expected": "winter"}, {"ok": true, "seen": "111", "what": "the console answers seed", "expected": "111"}, {"ok": true, "seen": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2", "what": "world id in heart.cbor.gz", "expected": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "111", "what": "world.seed in quarry.properties", "aside": true, "expected": "111"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "18 of 18 blocks the same", "what": "files stand as they were placed", "expected": "at least 3 of 4 of 18 sampled blocks in 18 files, and no file gone"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}', NULL, 'warden', '2026-12-01 22:13:05.727597+00', '2026-12-01 22:13:05.743706+00', '2026-12-01 22:13:06.339899+00', NULL, 6, '{"seen": {"winter": {"id": "27:6937791", "modified": "2026-12-01T22:13:03.890842776Z"}}, "locks": {"worlds/winter/held.lock": "2026-12-01T22:13:03.890842776Z"}, "names": ["winter"]}');
INSERT INTO public.copies VALUES ('f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', 1, 'arrival', '{"why": "has heart.cbor.gz", "game": "quarrymoss", "root": "fen", "bytes": 4873, "facts": {"mods": {"how": "gzip, cbor", "file": "heart.cbor.gz", "name": "mods", "text": "", "type": "list", "place": "/mods/*"}, "seed": {"how": "gzip, cbor", "file": "heart.cbor.gz", "name": "seed", "text": "222", "type": "int64", "place": "/seed"}, "title": {"how": "gzip, cbor", "file": "heart.cbor.gz", "name": "title", "text": "Fen", "type": "text", "place": "/title"}, "family": {"how": "gzip, cbor", "file": "heart.cbor.gz", "name": "family", "text": "moss", "type": "text", "place": "/family"}, "version": {"how": "gzip, cbor", "file": "heart.cbor.gz", "name": "version", "text": "2.4.0", "type": "version", "place": "/written-by"}, "world-id": {"how": "gzip, cbor", "file": "heart.cbor.gz", "name": "world-id", "text": "a45deff3-7de8-5fcc-b0b6-303183146e5c", "type": "text", "place": "/world-id"}, "last-played": {"how": "gzip, cbor", "file": "heart.cbor.gz", "name": "last-played", "text": "2026-11-14T20:30:00Z", "type": "time", "place": "/last-played"}}, "files": 7, "title": "Fen", "folder": "fen", "layout": "nested", "realms": ["aurora", "caverns"], "players": [], "warnings": [], "lastPlayed": "2026-11-14T20:30:00Z", "playerCount": 0}', 4873, 8, 'fen', 'warden', '2026-12-01 22:13:01.553863+00', '', false, NULL, '', NULL, NULL, NULL, NULL, '  2.4.0 2026-11-14t20:30:00z 222 fen fen a45deff3-7de8-5fcc-b0b6-303183146e5c arrival f307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d fen fen moss warden', 1);
INSERT INTO public.counted VALUES (true, '2026-12-01 22:12:55.529565+00');
INSERT INTO public.goose_db_version VALUES (1, 0, true, '2026-12-01 22:12:53.468753');
INSERT INTO public.goose_db_version VALUES (2, 1, true, '2026-12-01 22:12:53.479136');
INSERT INTO public.goose_db_version VALUES (3, 2, true, '2026-12-01 22:12:53.505156');
INSERT INTO public.goose_db_version VALUES (4, 3, true, '2026-12-01 22:12:53.509352');
INSERT INTO public.goose_db_version VALUES (5, 4, true, '2026-12-01 22:12:53.521968');
INSERT INTO public.goose_db_version VALUES (6, 5, true, '2026-12-01 22:12:53.535584');
INSERT INTO public.goose_db_version VALUES (7, 6, true, '2026-12-01 22:12:53.542019');
INSERT INTO public.goose_db_version VALUES (8, 7, true, '2026-12-01 22:12:53.543906');
INSERT INTO public.goose_db_version VALUES (9, 8, true, '2026-12-01 22:12:53.546432');
INSERT INTO public.goose_db_version VALUES (10, 9, true, '2026-12-01 22:12:53.548124');
INSERT INTO public.goose_db_version VALUES (11, 10, true, '2026-12-01 22:12:53.548707');
INSERT INTO public.goose_db_version VALUES (12, 11, true, '2026-12-01 22:12:53.549397');
INSERT INTO public.goose_db_version VALUES (13, 12, true, '2026-12-01 22:12:53.567743');
INSERT INTO public.goose_db_version VALUES (14, 13, true, '2026-12-01 22:12:53.575752');
INSERT INTO public.goose_db_version VALUES (15, 14, true, '2026-12-01 22:12:53.581727');
INSERT INTO public.goose_db_version VALUES (16, 15, true, '2026-12-01 22:12:53.582781');
INSERT INTO public.goose_db_version VALUES (17, 16, true, '2026-12-01 22:12:53.584837');
INSERT INTO public.goose_db_version VALUES (18, 17, true, '2026-12-01 22:12:53.590755');
INSERT INTO public.goose_db_version VALUES (19, 18, true, '2026-12-01 22:12:53.596211');
INSERT INTO public.goose_db_version VALUES (20, 19, true, '2026-12-01 22:12:53.596871');
INSERT INTO public.goose_db_version VALUES (21, 20, true, '2026-12-01 22:12:53.599294');
INSERT INTO public.goose_db_version VALUES (22, 21, true, '2026-12-01 22:12:53.600266');
INSERT INTO public.goose_db_version VALUES (23, 22, true, '2026-12-01 22:12:53.607081');
INSERT INTO public.holds VALUES (2, 2);
INSERT INTO public.holds VALUES (3, 3);
INSERT INTO public.holds VALUES (4, 4);
INSERT INTO public.holds VALUES (5, 5);
INSERT INTO public.holds VALUES (6, 6);
INSERT INTO public.holds VALUES (7, 7);
INSERT INTO public.hosts VALUES (1, 'local', 'local', '3d1219c7c4c5404aaa1f6d2a48adfda4', '2845d8b92d58701d4fca75da7ab44518', '{}', '2026-12-01 22:12:53.535584+00', NULL, NULL, NULL, NULL);
INSERT INTO public.keys VALUES ('\xd0d672ee0bf6bdcdb2e6715c9bf375d427b92a1cca1387018090bf3b48cf01d3', 1, 'token', 'test', '2026-12-01 22:12:55.607172+00', '2027-12-01 22:12:55.606789+00');
INSERT INTO public.keys VALUES ('\x44cb2046d89ad9e01f1bfa01e38cdbec63d8f740f1fc9c0e3443103e60f3bd8a', 1, 'token', 'command line on vm', '2026-12-01 22:13:01.514584+00', '2027-12-01 22:13:01.514478+00');
INSERT INTO public.river_leader VALUES ('2026-12-01 22:12:55.583388+00', '2026-12-01 22:13:20.598934+00', 'vm_2026_12_01T22_12_55_566627', 'default');
INSERT INTO public.river_migration VALUES ('main', 1, '2026-12-01 22:12:53.610852+00');
INSERT INTO public.river_migration VALUES ('main', 2, '2026-12-01 22:12:53.61542+00');
INSERT INTO public.river_migration VALUES ('main', 3, '2026-12-01 22:12:53.628566+00');
INSERT INTO public.river_migration VALUES ('main', 4, '2026-12-01 22:12:53.63084+00');
INSERT INTO public.river_migration VALUES ('main', 5, '2026-12-01 22:12:53.636759+00');
INSERT INTO public.river_migration VALUES ('main', 6, '2026-12-01 22:12:53.649305+00');
INSERT INTO public.river_migration VALUES ('main', 7, '2026-12-01 22:12:53.652499+00');
INSERT INTO public.river_migration VALUES ('main', 8, '2026-12-01 22:12:53.660467+00');
INSERT INTO public.river_queue VALUES ('default', '2026-12-01 22:12:55.568416+00', '{}', NULL, '2026-12-01 22:12:55.568416+00');
INSERT INTO public.servers VALUES (1, 'drafted', 'quarrymoss', 'plain', '@HOME@/servers/drafted', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 7, -1, '2026-12-01 22:12:55.615628+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (2, 'staging', 'quarrymoss', 'plain', '@HOME@/servers/staging', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 7, -1, '2026-12-01 22:12:56.155455+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (9, 'reset', 'quarrymoss', 'plain', '@HOME@/servers/reset', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 16, 12, '2026-12-01 22:12:59.900291+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (3, 'waiting', 'quarrymoss', 'plain', '@HOME@/servers/waiting', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 7, -1, '2026-12-01 22:12:56.684981+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (4, 'switching', 'quarrymoss', 'plain', '@HOME@/servers/switching', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 15, -1, '2026-12-01 22:12:57.213029+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (5, 'proving', 'quarrymoss', 'plain', '@HOME@/servers/proving', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 16, -1, '2026-12-01 22:12:57.750141+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (6, 'undoing', 'quarrymoss', 'plain', '@HOME@/servers/undoing', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 16, -1, '2026-12-01 22:12:58.290124+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (7, 'held', 'quarrymoss', 'plain', '@HOME@/servers/held', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 16, -1, '2026-12-01 22:12:58.831171+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (8, 'done', 'quarrymoss', 'plain', '@HOME@/servers/done', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 8, 8, '2026-12-01 22:12:59.369049+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (10, 'renamed', 'quarrymoss', 'plain', '@HOME@/servers/renamed', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 8, 8, '2026-12-01 22:13:00.438253+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.servers VALUES (11, 'undone', 'quarrymoss', 'plain', '@HOME@/servers/undone', '["@STANDIN@", "quarrymoss", "serve", "."]', '{}', '', 'running', 16, -1, '2026-12-01 22:13:00.976831+00', NULL, '', 1, '{}', '', NULL);
INSERT INTO public.service_lease VALUES (true, '7d691ed04db30ec2e6a202b1b4d7c363', 'vm http://127.0.0.1:39719', '2845d8b92d58701d4fca75da7ab44518', true, 3, 5);
INSERT INTO public.steps VALUES (1, 0, 'stage', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (1, 1, 'sample', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (1, 2, 'stop', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (1, 3, 'move', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (1, 4, 'move', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (1, 5, 'write', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (1, 6, 'start', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (1, 7, 'prove', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 1, 'sample', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 2, 'stop', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 3, 'move', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 4, 'move', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 5, 'write', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 6, 'start', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 7, 'prove', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (2, 0, 'stage', 'intended', NULL, '2026-12-01 22:13:01.626547+00', NULL, NULL, '2026-12-01 22:13:01.626029+00', NULL, NULL);
INSERT INTO public.steps VALUES (3, 3, 'stop', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (3, 4, 'move', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (3, 5, 'move', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (3, 6, 'write', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (3, 7, 'start', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (3, 8, 'prove', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (6, 6, 'start', 'undone', '{"tookMs": 16}', '2026-12-01 22:13:02.468389+00', '2026-12-01 22:13:02.99312+00', '2026-12-01 22:13:03.013002+00', '2026-12-01 22:13:02.468303+00', '2026-12-01 22:13:02.992901+00', '2026-12-01 22:13:03.012863+00');
INSERT INTO public.steps VALUES (3, 0, 'stage', 'done', '{"compared": "read back"}', '2026-12-01 22:13:01.66961+00', '2026-12-01 22:13:01.674858+00', NULL, '2026-12-01 22:13:01.669505+00', '2026-12-01 22:13:01.674061+00', NULL);
INSERT INTO public.steps VALUES (5, 2, 'stop', 'done', '{"clean": true, "tookMs": 9, "evidence": "saw-end"}', '2026-12-01 22:13:01.822941+00', '2026-12-01 22:13:01.832695+00', NULL, '2026-12-01 22:13:01.822867+00', '2026-12-01 22:13:01.8325+00', NULL);
INSERT INTO public.steps VALUES (3, 1, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "dcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "fec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "e59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34", "size": 784}]}]}', '2026-12-01 22:13:01.675976+00', '2026-12-01 22:13:01.677142+00', NULL, '2026-12-01 22:13:01.675879+00', '2026-12-01 22:13:01.677052+00', NULL);
INSERT INTO public.steps VALUES (3, 2, 'wait', 'intended', NULL, '2026-12-01 22:13:01.677823+00', NULL, NULL, '2026-12-01 22:13:01.677762+00', NULL, NULL);
INSERT INTO public.steps VALUES (4, 4, 'move', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (4, 5, 'write', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (4, 6, 'start', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (4, 7, 'prove', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (5, 6, 'start', 'done', '{"tookMs": 16}', '2026-12-01 22:13:01.85778+00', '2026-12-01 22:13:02.383174+00', NULL, '2026-12-01 22:13:01.857699+00', '2026-12-01 22:13:02.382955+00', NULL);
INSERT INTO public.steps VALUES (4, 0, 'stage', 'done', '{"compared": "read back"}', '2026-12-01 22:13:01.727041+00', '2026-12-01 22:13:01.730846+00', NULL, '2026-12-01 22:13:01.726342+00', '2026-12-01 22:13:01.73072+00', NULL);
INSERT INTO public.steps VALUES (5, 3, 'move', 'done', 'null', '2026-12-01 22:13:01.833287+00', '2026-12-01 22:13:01.840914+00', NULL, '2026-12-01 22:13:01.833219+00', '2026-12-01 22:13:01.840749+00', NULL);
INSERT INTO public.steps VALUES (4, 1, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "dcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "fec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "e59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34", "size": 784}]}]}', '2026-12-01 22:13:01.731589+00', '2026-12-01 22:13:01.732287+00', NULL, '2026-12-01 22:13:01.731522+00', '2026-12-01 22:13:01.732182+00', NULL);
INSERT INTO public.steps VALUES (5, 7, 'prove', 'intended', NULL, '2026-12-01 22:13:02.384599+00', NULL, NULL, '2026-12-01 22:13:02.384526+00', NULL, NULL);
INSERT INTO public.steps VALUES (4, 2, 'stop', 'done', '{"clean": true, "tookMs": 6, "evidence": "saw-end"}', '2026-12-01 22:13:01.752501+00', '2026-12-01 22:13:01.759818+00', NULL, '2026-12-01 22:13:01.752433+00', '2026-12-01 22:13:01.759686+00', NULL);
INSERT INTO public.steps VALUES (4, 3, 'move', 'intended', NULL, '2026-12-01 22:13:01.760216+00', NULL, NULL, '2026-12-01 22:13:01.760172+00', NULL, NULL);
INSERT INTO public.steps VALUES (5, 4, 'move', 'done', 'null', '2026-12-01 22:13:01.841479+00', '2026-12-01 22:13:01.84897+00', NULL, '2026-12-01 22:13:01.841405+00', '2026-12-01 22:13:01.84881+00', NULL);
INSERT INTO public.steps VALUES (5, 0, 'stage', 'done', '{"compared": "read back"}', '2026-12-01 22:13:01.795508+00', '2026-12-01 22:13:01.797912+00', NULL, '2026-12-01 22:13:01.795418+00', '2026-12-01 22:13:01.797797+00', NULL);
INSERT INTO public.steps VALUES (5, 1, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "dcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "fec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "e59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34", "size": 784}]}]}', '2026-12-01 22:13:01.798343+00', '2026-12-01 22:13:01.799088+00', NULL, '2026-12-01 22:13:01.798266+00', '2026-12-01 22:13:01.799002+00', NULL);
INSERT INTO public.steps VALUES (5, 5, 'write', 'done', '{"after": "6d05e0a1d7fa836f6d6c199475322553699327ca272849667a029218da862c4d", "before": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}', '2026-12-01 22:13:01.849499+00', '2026-12-01 22:13:01.857217+00', NULL, '2026-12-01 22:13:01.849387+00', '2026-12-01 22:13:01.857047+00', NULL);
INSERT INTO public.steps VALUES (6, 0, 'stage', 'done', '{"compared": "read back"}', '2026-12-01 22:13:02.419284+00', '2026-12-01 22:13:02.422401+00', NULL, '2026-12-01 22:13:02.419204+00', '2026-12-01 22:13:02.422285+00', NULL);
INSERT INTO public.steps VALUES (6, 2, 'stop', 'done', '{"clean": true, "tookMs": 7, "evidence": "saw-end"}', '2026-12-01 22:13:02.443713+00', '2026-12-01 22:13:02.451713+00', NULL, '2026-12-01 22:13:02.443653+00', '2026-12-01 22:13:02.451546+00', NULL);
INSERT INTO public.steps VALUES (6, 3, 'move', 'done', 'null', '2026-12-01 22:13:02.452166+00', '2026-12-01 22:13:02.456857+00', NULL, '2026-12-01 22:13:02.452112+00', '2026-12-01 22:13:02.456727+00', NULL);
INSERT INTO public.steps VALUES (6, 4, 'move', 'done', 'null', '2026-12-01 22:13:02.457324+00', '2026-12-01 22:13:02.46209+00', NULL, '2026-12-01 22:13:02.457278+00', '2026-12-01 22:13:02.461977+00', NULL);
INSERT INTO public.steps VALUES (9, 1, 'stop', 'done', '{"clean": true, "tookMs": 7, "evidence": "saw-end"}', '2026-12-01 22:13:03.858447+00', '2026-12-01 22:13:03.866208+00', NULL, '2026-12-01 22:13:03.858395+00', '2026-12-01 22:13:03.866065+00', NULL);
INSERT INTO public.steps VALUES (9, 4, 'start', 'done', '{"tookMs": 15}', '2026-12-01 22:13:03.87935+00', '2026-12-01 22:13:04.400215+00', NULL, '2026-12-01 22:13:03.879298+00', '2026-12-01 22:13:04.400105+00', NULL);
INSERT INTO public.steps VALUES (6, 1, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "dcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "fec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "e59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34", "size": 784}]}]}', '2026-12-01 22:13:02.422822+00', '2026-12-01 22:13:02.423624+00', NULL, '2026-12-01 22:13:02.422774+00', '2026-12-01 22:13:02.423512+00', NULL);
INSERT INTO public.steps VALUES (6, 7, 'prove', 'undone', '{"proof": {"world": {"seed": "222", "folder": "fen", "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": false, "seen": "fen-spare", "what": "the log names the opened world", "expected": "fen"}, {"ok": true, "seen": "222", "what": "the console answers seed", "expected": "222"}, {"ok": true, "seen": "a45deff3-7de8-5fcc-b0b6-303183146e5c", "what": "world id in heart.cbor.gz", "expected": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "fen", "what": "world.folder in quarry.properties", "aside": true, "expected": "fen"}, {"ok": true, "seen": "222", "what": "world.seed in quarry.properties", "aside": true, "expected": "222"}, {"ok": false, "next": "The game has fen-spare open. Check what sets its world''s name.", "seen": "worlds/fen-spare/held.lock", "what": "no other world is open", "expected": "no lock"}, {"ok": true, "seen": "6 of 6 blocks the same", "what": "files stand as they were placed", "expected": "at least 3 of 4 of 6 sampled blocks in 6 files, and no file gone"}, {"ok": true, "seen": "account 0:0 may write all 13 that were looked at", "what": "the server''s account may write its world", "expected": "every file"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": false, "next": "fen-spare appeared next to the world. Find out what makes worlds there. If the game saves next to its worlds, its profile must say so (world.autosaves: reshard games show quarrymoss).", "seen": "fen-spare", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}}', '2026-12-01 22:13:03.000117+00', NULL, '2026-12-01 22:13:03.001387+00', '2026-12-01 22:13:02.99995+00', NULL, '2026-12-01 22:13:03.00133+00');
INSERT INTO public.steps VALUES (6, 5, 'write', 'undone', '{"after": "6d05e0a1d7fa836f6d6c199475322553699327ca272849667a029218da862c4d", "before": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}', '2026-12-01 22:13:02.462478+00', '2026-12-01 22:13:02.467788+00', '2026-12-01 22:13:03.01825+00', '2026-12-01 22:13:02.462438+00', '2026-12-01 22:13:02.467638+00', '2026-12-01 22:13:03.018122+00');
INSERT INTO public.steps VALUES (7, 7, 'prove', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (8, 0, 'stage', 'done', '{"compared": "read back"}', '2026-12-01 22:13:03.197313+00', '2026-12-01 22:13:03.203252+00', NULL, '2026-12-01 22:13:03.197189+00', '2026-12-01 22:13:03.203141+00', NULL);
INSERT INTO public.steps VALUES (7, 0, 'stage', 'done', '{"compared": "read back"}', '2026-12-01 22:13:03.057692+00', '2026-12-01 22:13:03.060759+00', NULL, '2026-12-01 22:13:03.057552+00', '2026-12-01 22:13:03.060666+00', NULL);
INSERT INTO public.steps VALUES (7, 2, 'stop', 'done', '{"clean": true, "tookMs": 9, "evidence": "saw-end"}', '2026-12-01 22:13:03.085177+00', '2026-12-01 22:13:03.095537+00', NULL, '2026-12-01 22:13:03.085094+00', '2026-12-01 22:13:03.095347+00', NULL);
INSERT INTO public.steps VALUES (7, 1, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "dcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "fec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "e59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34", "size": 784}]}]}', '2026-12-01 22:13:03.061352+00', '2026-12-01 22:13:03.062524+00', NULL, '2026-12-01 22:13:03.061061+00', '2026-12-01 22:13:03.06243+00', NULL);
INSERT INTO public.steps VALUES (12, 5, 'start', 'done', '{"tookMs": 16}', '2026-12-01 22:13:05.808744+00', '2026-12-01 22:13:06.333453+00', NULL, '2026-12-01 22:13:05.808639+00', '2026-12-01 22:13:06.333221+00', NULL);
INSERT INTO public.steps VALUES (7, 3, 'move', 'done', 'null', '2026-12-01 22:13:03.096173+00', '2026-12-01 22:13:03.103554+00', NULL, '2026-12-01 22:13:03.096075+00', '2026-12-01 22:13:03.103403+00', NULL);
INSERT INTO public.steps VALUES (8, 1, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "dcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "fec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "e59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34", "size": 784}]}]}', '2026-12-01 22:13:03.204225+00', '2026-12-01 22:13:03.206268+00', NULL, '2026-12-01 22:13:03.204143+00', '2026-12-01 22:13:03.206149+00', NULL);
INSERT INTO public.steps VALUES (8, 2, 'stop', 'done', '{"clean": true, "tookMs": 8, "evidence": "saw-end"}', '2026-12-01 22:13:03.229499+00', '2026-12-01 22:13:03.238841+00', NULL, '2026-12-01 22:13:03.229406+00', '2026-12-01 22:13:03.238672+00', NULL);
INSERT INTO public.steps VALUES (8, 3, 'move', 'done', 'null', '2026-12-01 22:13:03.239529+00', '2026-12-01 22:13:03.246262+00', NULL, '2026-12-01 22:13:03.239393+00', '2026-12-01 22:13:03.246139+00', NULL);
INSERT INTO public.steps VALUES (8, 4, 'move', 'done', 'null', '2026-12-01 22:13:03.246735+00', '2026-12-01 22:13:03.252922+00', NULL, '2026-12-01 22:13:03.246673+00', '2026-12-01 22:13:03.252753+00', NULL);
INSERT INTO public.steps VALUES (8, 5, 'write', 'done', '{"after": "6d05e0a1d7fa836f6d6c199475322553699327ca272849667a029218da862c4d", "before": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}', '2026-12-01 22:13:03.253371+00', '2026-12-01 22:13:03.258259+00', NULL, '2026-12-01 22:13:03.25331+00', '2026-12-01 22:13:03.258105+00', NULL);
INSERT INTO public.steps VALUES (7, 6, 'start', 'undone', NULL, '2026-12-01 22:13:03.114231+00', NULL, '2026-12-01 22:13:03.135669+00', '2026-12-01 22:13:03.114182+00', NULL, '2026-12-01 22:13:03.135577+00');
INSERT INTO public.steps VALUES (7, 5, 'write', 'undone', '{"after": "6d05e0a1d7fa836f6d6c199475322553699327ca272849667a029218da862c4d", "before": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}', '2026-12-01 22:13:03.109139+00', '2026-12-01 22:13:03.113834+00', '2026-12-01 22:13:03.143306+00', '2026-12-01 22:13:03.109078+00', '2026-12-01 22:13:03.113699+00', '2026-12-01 22:13:03.143209+00');
INSERT INTO public.steps VALUES (7, 4, 'move', 'undone', 'null', '2026-12-01 22:13:03.103947+00', '2026-12-01 22:13:03.108686+00', '2026-12-01 22:13:03.152687+00', '2026-12-01 22:13:03.103867+00', '2026-12-01 22:13:03.108538+00', '2026-12-01 22:13:03.152082+00');
INSERT INTO public.steps VALUES (8, 6, 'start', 'done', '{"tookMs": 8}', '2026-12-01 22:13:03.258843+00', '2026-12-01 22:13:03.77399+00', NULL, '2026-12-01 22:13:03.258756+00', '2026-12-01 22:13:03.773796+00', NULL);
INSERT INTO public.steps VALUES (8, 7, 'prove', 'done', '{"proof": {"world": {"seed": "222", "folder": "fen", "worldId": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "fen", "what": "the log names the opened world", "expected": "fen"}, {"ok": true, "seen": "222", "what": "the console answers seed", "expected": "222"}, {"ok": true, "seen": "a45deff3-7de8-5fcc-b0b6-303183146e5c", "what": "world id in heart.cbor.gz", "expected": "a45deff3-7de8-5fcc-b0b6-303183146e5c"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "fen", "what": "world.folder in quarry.properties", "aside": true, "expected": "fen"}, {"ok": true, "seen": "222", "what": "world.seed in quarry.properties", "aside": true, "expected": "222"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "6 of 6 blocks the same", "what": "files stand as they were placed", "expected": "at least 3 of 4 of 6 sampled blocks in 6 files, and no file gone"}, {"ok": true, "seen": "account 0:0 may write all 14 that were looked at", "what": "the server''s account may write its world", "expected": "every file"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}}', '2026-12-01 22:13:03.775374+00', '2026-12-01 22:13:03.783513+00', NULL, '2026-12-01 22:13:03.775287+00', '2026-12-01 22:13:03.783341+00', NULL);
INSERT INTO public.steps VALUES (10, 5, 'prove', 'done', '{"proof": {"world": {"seed": "111", "folder": "summer", "worldId": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "summer", "what": "the log names the opened world", "expected": "summer"}, {"ok": true, "seen": "111", "what": "the console answers seed", "expected": "111"}, {"ok": true, "seen": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2", "what": "world id in heart.cbor.gz", "expected": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "summer", "what": "world.folder in quarry.properties", "aside": true, "expected": "summer"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "18 of 18 blocks the same", "what": "files stand as they were placed", "expected": "at least 3 of 4 of 18 sampled blocks in 18 files, and no file gone"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}}', '2026-12-01 22:13:05.013917+00', '2026-12-01 22:13:05.019858+00', NULL, '2026-12-01 22:13:05.013386+00', '2026-12-01 22:13:05.019693+00', NULL);
INSERT INTO public.steps VALUES (11, 7, 'prove', 'planned', NULL, NULL, NULL, NULL, NULL, NULL, NULL);
INSERT INTO public.steps VALUES (11, 0, 'stage', 'undone', '{"compared": "read back"}', '2026-12-01 22:13:05.068169+00', '2026-12-01 22:13:05.071504+00', '2026-12-01 22:13:05.69344+00', '2026-12-01 22:13:05.067391+00', '2026-12-01 22:13:05.0714+00', '2026-12-01 22:13:05.693348+00');
INSERT INTO public.steps VALUES (12, 0, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "465dbbe8321f60a3728d358a90f8dae2008fe21957bfae446741a2a77376d2d2", "size": 784}]}, {"file": "ground/t.-1.-2.qt", "blocks": [{"at": 0, "hash": "ab94faa3e317e33015d668c9402268ada0ad4631233a716875aa292d4a6147d4", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "6cdb1e0f0557abcd5386156908267546edf4f557587fb35eb9097971599a75c5", "size": 784}]}, {"file": "ground/t.-1.1.qt", "blocks": [{"at": 0, "hash": "9524411d8ae282a0844b3ef2d1b02782b820b0c1a060a8444ff167c2651457c7", "size": 784}]}, {"file": "ground/t.-2.-1.qt", "blocks": [{"at": 0, "hash": "b1e09b28ab471e5587d6a809725fff13a9e515b880d232128494921e286ba926", "size": 784}]}, {"file": "ground/t.-2.-2.qt", "blocks": [{"at": 0, "hash": "3df1b9b07802ccb4a306c3a6eaff47483970295c01dd040f679ad9ee8393510a", "size": 784}]}, {"file": "ground/t.-2.0.qt", "blocks": [{"at": 0, "hash": "248e3da258369087ae3ff5c2041c3151a84d27b3f1e4cbc9a43afa402b3ed453", "size": 784}]}, {"file": "ground/t.-2.1.qt", "blocks": [{"at": 0, "hash": "99ae0d785fb320156b12ce01fd19ea4dcead8790c03c4a596823f05e6b27b5a8", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b7c171a50b81128043aaba0cdf5759e530ec20993d55fc55ac279a292d85b275", "size": 784}]}, {"file": "ground/t.0.-2.qt", "blocks": [{"at": 0, "hash": "3c9dada28e3317f4995853e4b165f7cda17376ebeb0634b11a3e38a5310baa9c", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "15ab8c9053fb3c399f9426c4f9f492d8bc453f5fae214d45a9c4a9ac85b62bc3", "size": 784}]}, {"file": "ground/t.0.1.qt", "blocks": [{"at": 0, "hash": "012d60fe694e977bd5543542a17b6e8dccc392337ae7419b4d5cbacaad3b7b54", "size": 784}]}, {"file": "ground/t.1.-1.qt", "blocks": [{"at": 0, "hash": "35a9cbcd6f99bc51f4d2b8ba8d8c32da289c540a72f2eef7ed9d7992588f9d86", "size": 784}]}, {"file": "ground/t.1.-2.qt", "blocks": [{"at": 0, "hash": "3cbf2841726a9d17a91ab4385d2fe98a3fa78521ef32942258027ef096609a51", "size": 784}]}, {"file": "ground/t.1.0.qt", "blocks": [{"at": 0, "hash": "add4ae13be4dddd048005d19558ce431803d56ce157895c3ae157faeb62a2317", "size": 784}]}, {"file": "ground/t.1.1.qt", "blocks": [{"at": 0, "hash": "4af082d86be5e82bd6362b6b682e21f48fb768ae356b84088608d9c8aa97e63f", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "5b40a5db2e418aee0f6da9747c07a9fa9c4872411f1f309d93ebf807d36d379e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cd2333504a17cb81757fad1e22149bd47c72bb92607e080fa89410f87c970cfa", "size": 784}]}]}', '2026-12-01 22:13:05.751094+00', '2026-12-01 22:13:05.752945+00', NULL, '2026-12-01 22:13:05.750988+00', '2026-12-01 22:13:05.752824+00', NULL);
INSERT INTO public.steps VALUES (11, 6, 'start', 'undone', NULL, '2026-12-01 22:13:05.124795+00', NULL, '2026-12-01 22:13:05.15589+00', '2026-12-01 22:13:05.1247+00', NULL, '2026-12-01 22:13:05.155803+00');
INSERT INTO public.steps VALUES (11, 5, 'write', 'undone', '{"after": "6d05e0a1d7fa836f6d6c199475322553699327ca272849667a029218da862c4d", "before": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}', '2026-12-01 22:13:05.118134+00', '2026-12-01 22:13:05.124189+00', '2026-12-01 22:13:05.163123+00', '2026-12-01 22:13:05.118053+00', '2026-12-01 22:13:05.124015+00', '2026-12-01 22:13:05.162972+00');
INSERT INTO public.steps VALUES (11, 4, 'move', 'undone', 'null', '2026-12-01 22:13:05.109905+00', '2026-12-01 22:13:05.117668+00', '2026-12-01 22:13:05.169983+00', '2026-12-01 22:13:05.10981+00', '2026-12-01 22:13:05.117527+00', '2026-12-01 22:13:05.169894+00');
INSERT INTO public.steps VALUES (11, 3, 'move', 'undone', 'null', '2026-12-01 22:13:05.103077+00', '2026-12-01 22:13:05.109361+00', '2026-12-01 22:13:05.176494+00', '2026-12-01 22:13:05.102994+00', '2026-12-01 22:13:05.109199+00', '2026-12-01 22:13:05.176357+00');
INSERT INTO public.steps VALUES (11, 2, 'stop', 'undone', '{"clean": true, "tookMs": 8, "evidence": "saw-end"}', '2026-12-01 22:13:05.093711+00', '2026-12-01 22:13:05.102476+00', '2026-12-01 22:13:05.692214+00', '2026-12-01 22:13:05.093641+00', '2026-12-01 22:13:05.102294+00', '2026-12-01 22:13:05.69213+00');
INSERT INTO public.steps VALUES (9, 0, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "465dbbe8321f60a3728d358a90f8dae2008fe21957bfae446741a2a77376d2d2", "size": 784}]}, {"file": "ground/t.-1.-2.qt", "blocks": [{"at": 0, "hash": "ab94faa3e317e33015d668c9402268ada0ad4631233a716875aa292d4a6147d4", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "6cdb1e0f0557abcd5386156908267546edf4f557587fb35eb9097971599a75c5", "size": 784}]}, {"file": "ground/t.-1.1.qt", "blocks": [{"at": 0, "hash": "9524411d8ae282a0844b3ef2d1b02782b820b0c1a060a8444ff167c2651457c7", "size": 784}]}, {"file": "ground/t.-2.-1.qt", "blocks": [{"at": 0, "hash": "b1e09b28ab471e5587d6a809725fff13a9e515b880d232128494921e286ba926", "size": 784}]}, {"file": "ground/t.-2.-2.qt", "blocks": [{"at": 0, "hash": "3df1b9b07802ccb4a306c3a6eaff47483970295c01dd040f679ad9ee8393510a", "size": 784}]}, {"file": "ground/t.-2.0.qt", "blocks": [{"at": 0, "hash": "248e3da258369087ae3ff5c2041c3151a84d27b3f1e4cbc9a43afa402b3ed453", "size": 784}]}, {"file": "ground/t.-2.1.qt", "blocks": [{"at": 0, "hash": "99ae0d785fb320156b12ce01fd19ea4dcead8790c03c4a596823f05e6b27b5a8", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b7c171a50b81128043aaba0cdf5759e530ec20993d55fc55ac279a292d85b275", "size": 784}]}, {"file": "ground/t.0.-2.qt", "blocks": [{"at": 0, "hash": "3c9dada28e3317f4995853e4b165f7cda17376ebeb0634b11a3e38a5310baa9c", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "15ab8c9053fb3c399f9426c4f9f492d8bc453f5fae214d45a9c4a9ac85b62bc3", "size": 784}]}, {"file": "ground/t.0.1.qt", "blocks": [{"at": 0, "hash": "012d60fe694e977bd5543542a17b6e8dccc392337ae7419b4d5cbacaad3b7b54", "size": 784}]}, {"file": "ground/t.1.-1.qt", "blocks": [{"at": 0, "hash": "35a9cbcd6f99bc51f4d2b8ba8d8c32da289c540a72f2eef7ed9d7992588f9d86", "size": 784}]}, {"file": "ground/t.1.-2.qt", "blocks": [{"at": 0, "hash": "3cbf2841726a9d17a91ab4385d2fe98a3fa78521ef32942258027ef096609a51", "size": 784}]}, {"file": "ground/t.1.0.qt", "blocks": [{"at": 0, "hash": "add4ae13be4dddd048005d19558ce431803d56ce157895c3ae157faeb62a2317", "size": 784}]}, {"file": "ground/t.1.1.qt", "blocks": [{"at": 0, "hash": "4af082d86be5e82bd6362b6b682e21f48fb768ae356b84088608d9c8aa97e63f", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "5b40a5db2e418aee0f6da9747c07a9fa9c4872411f1f309d93ebf807d36d379e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cd2333504a17cb81757fad1e22149bd47c72bb92607e080fa89410f87c970cfa", "size": 784}]}]}', '2026-12-01 22:13:03.834238+00', '2026-12-01 22:13:03.837226+00', NULL, '2026-12-01 22:13:03.834127+00', '2026-12-01 22:13:03.837087+00', NULL);
INSERT INTO public.steps VALUES (9, 2, 'move', 'done', 'null', '2026-12-01 22:13:03.866744+00', '2026-12-01 22:13:03.87149+00', NULL, '2026-12-01 22:13:03.866685+00', '2026-12-01 22:13:03.871322+00', NULL);
INSERT INTO public.steps VALUES (9, 3, 'write', 'done', '{"after": "ba4d815b21c38b8385e1e650db444adc10ef5521a4397263f48563a486f24a3f", "before": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}', '2026-12-01 22:13:03.872065+00', '2026-12-01 22:13:03.878992+00', NULL, '2026-12-01 22:13:03.871964+00', '2026-12-01 22:13:03.878888+00', NULL);
INSERT INTO public.steps VALUES (9, 5, 'prove', 'done', '{"proof": {"world": {"seed": "-77", "folder": "winter", "worldId": "d4ccda16-73d3-5661-8a59-57a1a9cc4a29"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "winter", "what": "the log names the opened world", "expected": "winter"}, {"ok": true, "seen": "-77", "what": "the console answers seed", "expected": "-77"}, {"ok": true, "seen": "12 of 12", "what": "files made since the old world was gone", "expected": "all of them"}, {"ok": true, "seen": "d4ccda16-73d3-5661-8a59-57a1a9cc4a29", "what": "another world id in heart.cbor.gz", "expected": "not 69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, {"ok": true, "seen": "0 of 18 blocks of the old world", "what": "the ground is new", "expected": "at most 1 in 4 of 18 sampled blocks of the old world"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "-77", "what": "world.seed in quarry.properties", "aside": true, "expected": "-77"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}}', '2026-12-01 22:13:04.40099+00', '2026-12-01 22:13:04.40688+00', NULL, '2026-12-01 22:13:04.400947+00', '2026-12-01 22:13:04.406673+00', NULL);
INSERT INTO public.steps VALUES (11, 1, 'sample', 'undone', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "dcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "fec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "e59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34", "size": 784}]}]}', '2026-12-01 22:13:05.071914+00', '2026-12-01 22:13:05.072855+00', '2026-12-01 22:13:05.692681+00', '2026-12-01 22:13:05.071856+00', '2026-12-01 22:13:05.072777+00', '2026-12-01 22:13:05.692611+00');
INSERT INTO public.steps VALUES (10, 0, 'stop', 'done', '{"clean": true, "tookMs": 8, "evidence": "saw-end"}', '2026-12-01 22:13:04.469695+00', '2026-12-01 22:13:04.478959+00', NULL, '2026-12-01 22:13:04.469629+00', '2026-12-01 22:13:04.478859+00', NULL);
INSERT INTO public.steps VALUES (10, 1, 'sample', 'done', '{"samples": [{"file": "ground/t.-1.-1.qt", "blocks": [{"at": 0, "hash": "465dbbe8321f60a3728d358a90f8dae2008fe21957bfae446741a2a77376d2d2", "size": 784}]}, {"file": "ground/t.-1.-2.qt", "blocks": [{"at": 0, "hash": "ab94faa3e317e33015d668c9402268ada0ad4631233a716875aa292d4a6147d4", "size": 784}]}, {"file": "ground/t.-1.0.qt", "blocks": [{"at": 0, "hash": "6cdb1e0f0557abcd5386156908267546edf4f557587fb35eb9097971599a75c5", "size": 784}]}, {"file": "ground/t.-1.1.qt", "blocks": [{"at": 0, "hash": "9524411d8ae282a0844b3ef2d1b02782b820b0c1a060a8444ff167c2651457c7", "size": 784}]}, {"file": "ground/t.-2.-1.qt", "blocks": [{"at": 0, "hash": "b1e09b28ab471e5587d6a809725fff13a9e515b880d232128494921e286ba926", "size": 784}]}, {"file": "ground/t.-2.-2.qt", "blocks": [{"at": 0, "hash": "3df1b9b07802ccb4a306c3a6eaff47483970295c01dd040f679ad9ee8393510a", "size": 784}]}, {"file": "ground/t.-2.0.qt", "blocks": [{"at": 0, "hash": "248e3da258369087ae3ff5c2041c3151a84d27b3f1e4cbc9a43afa402b3ed453", "size": 784}]}, {"file": "ground/t.-2.1.qt", "blocks": [{"at": 0, "hash": "99ae0d785fb320156b12ce01fd19ea4dcead8790c03c4a596823f05e6b27b5a8", "size": 784}]}, {"file": "ground/t.0.-1.qt", "blocks": [{"at": 0, "hash": "b7c171a50b81128043aaba0cdf5759e530ec20993d55fc55ac279a292d85b275", "size": 784}]}, {"file": "ground/t.0.-2.qt", "blocks": [{"at": 0, "hash": "3c9dada28e3317f4995853e4b165f7cda17376ebeb0634b11a3e38a5310baa9c", "size": 784}]}, {"file": "ground/t.0.0.qt", "blocks": [{"at": 0, "hash": "15ab8c9053fb3c399f9426c4f9f492d8bc453f5fae214d45a9c4a9ac85b62bc3", "size": 784}]}, {"file": "ground/t.0.1.qt", "blocks": [{"at": 0, "hash": "012d60fe694e977bd5543542a17b6e8dccc392337ae7419b4d5cbacaad3b7b54", "size": 784}]}, {"file": "ground/t.1.-1.qt", "blocks": [{"at": 0, "hash": "35a9cbcd6f99bc51f4d2b8ba8d8c32da289c540a72f2eef7ed9d7992588f9d86", "size": 784}]}, {"file": "ground/t.1.-2.qt", "blocks": [{"at": 0, "hash": "3cbf2841726a9d17a91ab4385d2fe98a3fa78521ef32942258027ef096609a51", "size": 784}]}, {"file": "ground/t.1.0.qt", "blocks": [{"at": 0, "hash": "add4ae13be4dddd048005d19558ce431803d56ce157895c3ae157faeb62a2317", "size": 784}]}, {"file": "ground/t.1.1.qt", "blocks": [{"at": 0, "hash": "4af082d86be5e82bd6362b6b682e21f48fb768ae356b84088608d9c8aa97e63f", "size": 784}]}, {"file": "realms/aurora/t.0.0.qt", "blocks": [{"at": 0, "hash": "5b40a5db2e418aee0f6da9747c07a9fa9c4872411f1f309d93ebf807d36d379e", "size": 784}]}, {"file": "realms/caverns/t.0.0.qt", "blocks": [{"at": 0, "hash": "cd2333504a17cb81757fad1e22149bd47c72bb92607e080fa89410f87c970cfa", "size": 784}]}]}', '2026-12-01 22:13:04.479432+00', '2026-12-01 22:13:04.480706+00', NULL, '2026-12-01 22:13:04.479359+00', '2026-12-01 22:13:04.480551+00', NULL);
INSERT INTO public.steps VALUES (10, 2, 'move', 'done', 'null', '2026-12-01 22:13:04.481283+00', '2026-12-01 22:13:04.487512+00', NULL, '2026-12-01 22:13:04.481211+00', '2026-12-01 22:13:04.487345+00', NULL);
INSERT INTO public.steps VALUES (10, 3, 'write', 'done', '{"after": "33f10a82c6f996b9e223873c26a40ec110c4ad5db5e58a4235cc3c0134fbda15", "before": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb"}', '2026-12-01 22:13:04.48797+00', '2026-12-01 22:13:04.49522+00', NULL, '2026-12-01 22:13:04.487914+00', '2026-12-01 22:13:04.495124+00', NULL);
INSERT INTO public.steps VALUES (10, 4, 'start', 'done', '{"tookMs": 8}', '2026-12-01 22:13:04.495683+00', '2026-12-01 22:13:05.011864+00', NULL, '2026-12-01 22:13:04.495608+00', '2026-12-01 22:13:05.011648+00', NULL);
INSERT INTO public.steps VALUES (12, 1, 'stop', 'done', '{"clean": true, "tookMs": 12, "evidence": "saw-end"}', '2026-12-01 22:13:05.774182+00', '2026-12-01 22:13:05.787646+00', NULL, '2026-12-01 22:13:05.774069+00', '2026-12-01 22:13:05.787449+00', NULL);
INSERT INTO public.steps VALUES (12, 2, 'move', 'done', 'null', '2026-12-01 22:13:05.788223+00', '2026-12-01 22:13:05.793399+00', NULL, '2026-12-01 22:13:05.788125+00', '2026-12-01 22:13:05.793273+00', NULL);
INSERT INTO public.steps VALUES (12, 3, 'move', 'done', 'null', '2026-12-01 22:13:05.794019+00', '2026-12-01 22:13:05.800287+00', NULL, '2026-12-01 22:13:05.793968+00', '2026-12-01 22:13:05.800142+00', NULL);
INSERT INTO public.steps VALUES (12, 4, 'write', 'done', '{"after": "5d3d6c85aed857ce4a235d5065e9c290bb76eef763e8aba43ef4bfbb6e6695cb", "before": "ba4d815b21c38b8385e1e650db444adc10ef5521a4397263f48563a486f24a3f"}', '2026-12-01 22:13:05.800855+00', '2026-12-01 22:13:05.808077+00', NULL, '2026-12-01 22:13:05.800788+00', '2026-12-01 22:13:05.807929+00', NULL);
INSERT INTO public.steps VALUES (12, 6, 'prove', 'done', '{"proof": {"world": {"seed": "111", "folder": "winter", "worldId": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, "checks": [{"ok": true, "seen": "its process was seen to end", "what": "the server was down before the switch", "expected": "seen to be down"}, {"ok": true, "seen": "winter", "what": "the log names the opened world", "expected": "winter"}, {"ok": true, "seen": "111", "what": "the console answers seed", "expected": "111"}, {"ok": true, "seen": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2", "what": "world id in heart.cbor.gz", "expected": "69a70fd7-58ac-55bd-9202-7c3ec9b977e2"}, {"ok": true, "seen": "2.5.1", "what": "the server''s version", "expected": "2.5.1, as before"}, {"ok": true, "seen": "111", "what": "world.seed in quarry.properties", "aside": true, "expected": "111"}, {"ok": true, "seen": "no lock", "what": "no other world is open", "aside": true, "expected": "no lock"}, {"ok": true, "seen": "18 of 18 blocks the same", "what": "files stand as they were placed", "expected": "at least 3 of 4 of 18 sampled blocks in 18 files, and no file gone"}, {"ok": true, "seen": "none", "what": "the log holds no refusal", "expected": "none"}, {"ok": true, "seen": "none", "what": "no other new world", "expected": "none"}, {"ok": true, "seen": "running", "what": "the server is ready", "expected": "running"}]}}', '2026-12-01 22:13:06.33511+00', '2026-12-01 22:13:06.338717+00', NULL, '2026-12-01 22:13:06.335018+00', '2026-12-01 22:13:06.338512+00', NULL);
INSERT INTO public.upkeep VALUES ('collect', '2026-12-01 22:12:55.618822+00');
INSERT INTO public.upkeep VALUES ('standing-check', '2026-12-01 22:12:55.622386+00');
INSERT INTO public.users VALUES (1, 'warden', '$argon2id$v=19$m=64,t=1,p=1$YSBzYWx0IGZvciB0ZXN0cw$7yUsNem2BnYk6EaAMSiSJ65UCMC6qY9HA9OWTRspXKE', '2026-12-01 22:12:53.752035+00');
INSERT INTO public.vault_entries VALUES (1, '\xb34dc0039bfc7600aa9470c2d7ff6c32c2a6a7b0203a30ee7f5fda77cb3a5190', '0450560deef64c49a5502f8a1790e46d', 64, 629, 1, 784);
INSERT INTO public.vault_entries VALUES (1, '\xf9337335392c3b60a26f9e1f34b0e77d05da7ddd64bf497ef6e17015f3215263', '0450560deef64c49a5502f8a1790e46d', 741, 169, 0, 169);
INSERT INTO public.vault_entries VALUES (1, '\xcfb126636e3c717f66d03c26aa2b0fe9627e7633e633132eed2ef4a23ad23d34', '0450560deef64c49a5502f8a1790e46d', 958, 570, 1, 784);
INSERT INTO public.vault_entries VALUES (1, '\x4c18e01da847b5ae88798bcf09e9323663779ea673fb31bcef45ba319719f8cf', '0450560deef64c49a5502f8a1790e46d', 1576, 581, 1, 784);
INSERT INTO public.vault_entries VALUES (1, '\xfec224db074bd649e1cc5a13d8491248feeb9c47883741027604ec564ee36cd5', '265672dc0e274136a5fd73789e0c4865', 64, 580, 1, 784);
INSERT INTO public.vault_entries VALUES (1, '\xe59b463ba9e1283ffaaca36ddd333621c9e06ecb1e45a34d2e8f5cd3dc942f7e', '265672dc0e274136a5fd73789e0c4865', 692, 599, 1, 784);
INSERT INTO public.vault_entries VALUES (1, '\xdcee3f9e6f7b7b0c779264ae7def4102e746de432abe718caa78dcf2f907f777', '265672dc0e274136a5fd73789e0c4865', 1339, 624, 1, 784);
INSERT INTO public.vault_entries VALUES (2, '\xf307cae31329b3d257a5d9ed641900fabe343452be57266290b890d56e958c0d', '9b55932e9ecd47ccba7f98a439edf497', 64, 537, 1, 1382);
INSERT INTO public.vault_packs VALUES ('0450560deef64c49a5502f8a1790e46d', 2401, '2026-12-01 22:13:01.542329+00', NULL);
INSERT INTO public.vault_packs VALUES ('265672dc0e274136a5fd73789e0c4865', 2159, '2026-12-01 22:13:01.548043+00', NULL);
INSERT INTO public.vault_packs VALUES ('9b55932e9ecd47ccba7f98a439edf497', 701, '2026-12-01 22:13:01.552269+00', NULL);
INSERT INTO public.worlds VALUES (1, 'fen', 'quarrymoss', 'Fen', '2026-12-01 22:13:01.553863+00', '', '[]');
SELECT pg_catalog.setval('public.alerts_id_seq', 1, false);
SELECT pg_catalog.setval('public.backups_id_seq', 1, false);
SELECT pg_catalog.setval('public.changeovers_ended', 6, true);
SELECT pg_catalog.setval('public.changeovers_id_seq', 12, true);
SELECT pg_catalog.setval('public.copies_arrived', 1, true);
SELECT pg_catalog.setval('public.findings_id_seq', 1, false);
SELECT pg_catalog.setval('public.goose_db_version_id_seq', 23, true);
SELECT pg_catalog.setval('public.hosts_id_seq', 1, true);
SELECT pg_catalog.setval('public.landmarks_id_seq', 1, false);
SELECT pg_catalog.setval('public.notice_targets_id_seq', 1, false);
SELECT pg_catalog.setval('public.profiles_id_seq', 1, false);
SELECT pg_catalog.setval('public.river_job_id_seq', 1, false);
SELECT pg_catalog.setval('public.river_notification_id_seq', 1, false);
SELECT pg_catalog.setval('public.rules_id_seq', 1, false);
SELECT pg_catalog.setval('public.servers_id_seq', 11, true);
SELECT pg_catalog.setval('public.stores_id_seq', 1, false);
SELECT pg_catalog.setval('public.users_id_seq', 1, true);
SELECT pg_catalog.setval('public.worlds_id_seq', 1, true);
ALTER TABLE ONLY public.alerts
    ADD CONSTRAINT alerts_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.apart
    ADD CONSTRAINT apart_pkey PRIMARY KEY (world_id, other_id);
ALTER TABLE ONLY public.backup_worlds
    ADD CONSTRAINT backup_worlds_pkey PRIMARY KEY (backup_id, world);
ALTER TABLE ONLY public.backups
    ADD CONSTRAINT backups_changeover_id_key UNIQUE (changeover_id);
ALTER TABLE ONLY public.backups
    ADD CONSTRAINT backups_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.builds
    ADD CONSTRAINT builds_pkey PRIMARY KEY (one);
ALTER TABLE ONLY public.changeovers
    ADD CONSTRAINT changeovers_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.claimed_folders
    ADD CONSTRAINT claimed_folders_pkey PRIMARY KEY (server_id, folder);
ALTER TABLE ONLY public.claimed_servers
    ADD CONSTRAINT claimed_servers_pkey PRIMARY KEY (server_id);
ALTER TABLE ONLY public.copies
    ADD CONSTRAINT copies_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.counted
    ADD CONSTRAINT counted_pkey PRIMARY KEY (one);
ALTER TABLE ONLY public.findings
    ADD CONSTRAINT findings_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.first_seen
    ADD CONSTRAINT first_seen_pkey PRIMARY KEY (what);
ALTER TABLE ONLY public.found_folders
    ADD CONSTRAINT found_folders_pkey PRIMARY KEY (server_id, folder);
ALTER TABLE ONLY public.goose_db_version
    ADD CONSTRAINT goose_db_version_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.holds
    ADD CONSTRAINT holds_pkey PRIMARY KEY (server_id);
ALTER TABLE ONLY public.hosts
    ADD CONSTRAINT hosts_name_key UNIQUE (name);
ALTER TABLE ONLY public.hosts
    ADD CONSTRAINT hosts_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.keys
    ADD CONSTRAINT keys_pkey PRIMARY KEY (hash);
ALTER TABLE ONLY public.known_files
    ADD CONSTRAINT known_files_pkey PRIMARY KEY (server_id, world);
ALTER TABLE ONLY public.landmarks
    ADD CONSTRAINT landmarks_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.notice_targets
    ADD CONSTRAINT notice_targets_name_key UNIQUE (name);
ALTER TABLE ONLY public.notice_targets
    ADD CONSTRAINT notice_targets_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.profiles
    ADD CONSTRAINT profiles_game_version_key UNIQUE (game, version);
ALTER TABLE ONLY public.profiles
    ADD CONSTRAINT profiles_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.river_job
    ADD CONSTRAINT river_job_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.river_leader
    ADD CONSTRAINT river_leader_pkey PRIMARY KEY (name);
ALTER TABLE ONLY public.river_migration
    ADD CONSTRAINT river_migration_pkey1 PRIMARY KEY (line, version);
ALTER TABLE ONLY public.river_notification
    ADD CONSTRAINT river_notification_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.river_queue
    ADD CONSTRAINT river_queue_pkey PRIMARY KEY (name);
ALTER TABLE ONLY public.rules
    ADD CONSTRAINT rules_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.running_worlds
    ADD CONSTRAINT running_worlds_pkey PRIMARY KEY (server_id);
ALTER TABLE ONLY public.servers
    ADD CONSTRAINT servers_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.service_lease
    ADD CONSTRAINT service_lease_pkey PRIMARY KEY (one);
ALTER TABLE ONLY public.settings
    ADD CONSTRAINT settings_pkey PRIMARY KEY (name);
ALTER TABLE ONLY public.sightings
    ADD CONSTRAINT sightings_pkey PRIMARY KEY (changeover_id, landmark_id);
ALTER TABLE ONLY public.steps
    ADD CONSTRAINT steps_pkey PRIMARY KEY (changeover_id, n);
ALTER TABLE ONLY public.store_packs
    ADD CONSTRAINT store_packs_pkey PRIMARY KEY (store_id, pack);
ALTER TABLE ONLY public.store_waits
    ADD CONSTRAINT store_waits_pkey PRIMARY KEY (store_id, pack);
ALTER TABLE ONLY public.stores
    ADD CONSTRAINT stores_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.tidied
    ADD CONSTRAINT tidied_pkey PRIMARY KEY (changeover_id);
ALTER TABLE ONLY public.upkeep
    ADD CONSTRAINT upkeep_pkey PRIMARY KEY (task);
ALTER TABLE ONLY public.users
    ADD CONSTRAINT users_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.vault_entries
    ADD CONSTRAINT vault_entries_pkey PRIMARY KEY (kind, name);
ALTER TABLE ONLY public.vault_packs
    ADD CONSTRAINT vault_packs_pkey PRIMARY KEY (id);
ALTER TABLE ONLY public.worlds
    ADD CONSTRAINT worlds_name_key UNIQUE (name);
ALTER TABLE ONLY public.worlds
    ADD CONSTRAINT worlds_pkey PRIMARY KEY (id);
CREATE UNIQUE INDEX alerts_open ON public.alerts USING btree (kind, of) WHERE (ended_at IS NULL);
CREATE INDEX backup_worlds_copy ON public.backup_worlds USING btree (copy_id);
CREATE INDEX backups_rule ON public.backups USING btree (rule_id, id);
CREATE INDEX backups_server ON public.backups USING btree (server_id, id);
CREATE INDEX changeovers_server ON public.changeovers USING btree (server_id, id);
CREATE INDEX copies_world ON public.copies USING btree (world_id);
CREATE INDEX landmarks_world ON public.landmarks USING btree (world_id, id);
CREATE INDEX river_job_args_index ON public.river_job USING gin (args);
CREATE INDEX river_job_kind ON public.river_job USING btree (kind);
CREATE INDEX river_job_metadata_index ON public.river_job USING gin (metadata);
CREATE INDEX river_job_prioritized_fetching_index ON public.river_job USING btree (state, queue, priority, scheduled_at, id);
CREATE INDEX river_job_state_and_finalized_at_index ON public.river_job USING btree (state, finalized_at) WHERE (finalized_at IS NOT NULL);
CREATE UNIQUE INDEX river_job_unique_idx ON public.river_job USING btree (unique_key) WHERE ((unique_key IS NOT NULL) AND (unique_states IS NOT NULL) AND public.river_job_state_in_bitmask(unique_states, state));
CREATE INDEX river_notification_created_at_idx ON public.river_notification USING btree (created_at);
CREATE INDEX river_notification_topic_id_idx ON public.river_notification USING btree (topic, id);
CREATE UNIQUE INDEX rules_name ON public.rules USING btree (server_id, name) WHERE (removed_at IS NULL);
CREATE UNIQUE INDEX servers_name ON public.servers USING btree (name) WHERE (removed_at IS NULL);
CREATE UNIQUE INDEX servers_root ON public.servers USING btree (host_id, root) WHERE (removed_at IS NULL);
CREATE UNIQUE INDEX stores_name ON public.stores USING btree (name) WHERE (removed_at IS NULL);
CREATE UNIQUE INDEX users_name ON public.users USING btree (lower(name));
CREATE INDEX vault_entries_pack ON public.vault_entries USING btree (pack);
ALTER TABLE ONLY public.apart
    ADD CONSTRAINT apart_other_id_fkey FOREIGN KEY (other_id) REFERENCES public.worlds(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.apart
    ADD CONSTRAINT apart_world_id_fkey FOREIGN KEY (world_id) REFERENCES public.worlds(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.backup_worlds
    ADD CONSTRAINT backup_worlds_backup_id_fkey FOREIGN KEY (backup_id) REFERENCES public.backups(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.backup_worlds
    ADD CONSTRAINT backup_worlds_copy_id_fkey FOREIGN KEY (copy_id) REFERENCES public.copies(id);
ALTER TABLE ONLY public.backups
    ADD CONSTRAINT backups_changeover_id_fkey FOREIGN KEY (changeover_id) REFERENCES public.changeovers(id) ON DELETE SET NULL;
ALTER TABLE ONLY public.backups
    ADD CONSTRAINT backups_rule_id_fkey FOREIGN KEY (rule_id) REFERENCES public.rules(id);
ALTER TABLE ONLY public.backups
    ADD CONSTRAINT backups_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.changeovers
    ADD CONSTRAINT changeovers_copy_id_fkey FOREIGN KEY (copy_id) REFERENCES public.copies(id);
ALTER TABLE ONLY public.changeovers
    ADD CONSTRAINT changeovers_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.changeovers
    ADD CONSTRAINT changeovers_source_id_fkey FOREIGN KEY (source_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.changeovers
    ADD CONSTRAINT changeovers_undoes_fkey FOREIGN KEY (undoes) REFERENCES public.changeovers(id);
ALTER TABLE ONLY public.claimed_folders
    ADD CONSTRAINT claimed_folders_changeover_id_fkey FOREIGN KEY (changeover_id) REFERENCES public.changeovers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.claimed_folders
    ADD CONSTRAINT claimed_folders_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.claimed_servers
    ADD CONSTRAINT claimed_servers_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.copies
    ADD CONSTRAINT copies_changeover_id_fkey FOREIGN KEY (changeover_id) REFERENCES public.changeovers(id) ON DELETE SET NULL;
ALTER TABLE ONLY public.copies
    ADD CONSTRAINT copies_made_of_fkey FOREIGN KEY (made_of) REFERENCES public.copies(id);
ALTER TABLE ONLY public.copies
    ADD CONSTRAINT copies_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.copies
    ADD CONSTRAINT copies_world_id_fkey FOREIGN KEY (world_id) REFERENCES public.worlds(id);
ALTER TABLE ONLY public.found_folders
    ADD CONSTRAINT found_folders_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.holds
    ADD CONSTRAINT holds_changeover_id_fkey FOREIGN KEY (changeover_id) REFERENCES public.changeovers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.holds
    ADD CONSTRAINT holds_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.keys
    ADD CONSTRAINT keys_user_id_fkey FOREIGN KEY (user_id) REFERENCES public.users(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.known_files
    ADD CONSTRAINT known_files_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.landmarks
    ADD CONSTRAINT landmarks_world_id_fkey FOREIGN KEY (world_id) REFERENCES public.worlds(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.rules
    ADD CONSTRAINT rules_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.running_worlds
    ADD CONSTRAINT running_worlds_server_id_fkey FOREIGN KEY (server_id) REFERENCES public.servers(id);
ALTER TABLE ONLY public.servers
    ADD CONSTRAINT servers_host_id_fkey FOREIGN KEY (host_id) REFERENCES public.hosts(id);
ALTER TABLE ONLY public.sightings
    ADD CONSTRAINT sightings_changeover_id_fkey FOREIGN KEY (changeover_id) REFERENCES public.changeovers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.sightings
    ADD CONSTRAINT sightings_landmark_id_fkey FOREIGN KEY (landmark_id) REFERENCES public.landmarks(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.steps
    ADD CONSTRAINT steps_changeover_id_fkey FOREIGN KEY (changeover_id) REFERENCES public.changeovers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.store_packs
    ADD CONSTRAINT store_packs_store_id_fkey FOREIGN KEY (store_id) REFERENCES public.stores(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.store_waits
    ADD CONSTRAINT store_waits_store_id_fkey FOREIGN KEY (store_id) REFERENCES public.stores(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.tidied
    ADD CONSTRAINT tidied_changeover_id_fkey FOREIGN KEY (changeover_id) REFERENCES public.changeovers(id) ON DELETE CASCADE;
ALTER TABLE ONLY public.vault_entries
    ADD CONSTRAINT vault_entries_pack_fkey FOREIGN KEY (pack) REFERENCES public.vault_packs(id);
