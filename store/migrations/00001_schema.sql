-- +goose Up
CREATE TABLE certificate (
    sha256 TEXT PRIMARY KEY,
    der    BLOB NOT NULL,
    self_signed INTEGER NOT NULL DEFAULT -1
) WITHOUT ROWID;

CREATE TABLE device (
    id       INTEGER PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE,
    family   TEXT NOT NULL, -- name of a procedure; empty: can only be read
    site     TEXT NOT NULL,
    address  TEXT NOT NULL,
    settings TEXT NOT NULL, -- JSON object
    added_at INTEGER NOT NULL,
    owner TEXT NOT NULL DEFAULT '',
    tags  TEXT NOT NULL DEFAULT '[]', -- JSON list
    notes TEXT NOT NULL DEFAULT '',
    cluster TEXT NOT NULL DEFAULT '', -- devices that serve one name together
    cluster_role TEXT NOT NULL DEFAULT '', -- active, standby or member
    nodes TEXT NOT NULL DEFAULT '[]'
);

CREATE TABLE slot (
    id          INTEGER PRIMARY KEY,
    device_id   INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    name        TEXT NOT NULL,
    address     TEXT NOT NULL,
    port        INTEGER NOT NULL,
    protocol    TEXT NOT NULL,
    server_name TEXT NOT NULL,
    installed   TEXT NOT NULL DEFAULT '', -- fingerprint of the last sealed leaf
    -- what the newest reading says, so that a list needs no second look
    read_at     INTEGER NOT NULL DEFAULT 0,
    chain       TEXT NOT NULL DEFAULT '[]', -- fingerprints as served
    version     TEXT NOT NULL DEFAULT '',
    suite       TEXT NOT NULL DEFAULT '',
    failure     TEXT NOT NULL DEFAULT 'null',
    findings    TEXT NOT NULL DEFAULT '[]',
    subject     TEXT NOT NULL DEFAULT '',
    self_signed INTEGER NOT NULL DEFAULT 0,
    not_after   INTEGER NOT NULL DEFAULT 0,
    base TEXT NOT NULL DEFAULT 'unreachable', -- unreachable, unexpected, factory, flawed or fresh
    overdue_from INTEGER NOT NULL DEFAULT 0,
    due_from INTEGER NOT NULL DEFAULT 0,
    condition TEXT NOT NULL DEFAULT 'unreachable', -- as of turns_at
    turns_at INTEGER NOT NULL DEFAULT 0,
    signer TEXT NOT NULL DEFAULT '',
    more TEXT NOT NULL DEFAULT '[]',
    others TEXT NOT NULL DEFAULT '[]',
    path TEXT NOT NULL DEFAULT '[]',
    search_text TEXT NOT NULL DEFAULT '',
    identity TEXT NOT NULL DEFAULT '',
    remarks TEXT NOT NULL DEFAULT '[]',
    next_at INTEGER NOT NULL DEFAULT 0,
    misses INTEGER NOT NULL DEFAULT 0,
    installed_at INTEGER NOT NULL DEFAULT 0,
    closer TEXT NOT NULL DEFAULT 'null',
    look_at INTEGER NOT NULL DEFAULT 0,
    not_before INTEGER NOT NULL DEFAULT 0,
    trust_groups TEXT NOT NULL DEFAULT '[]', -- the groups of clients that use it; none: the fleet
    client_use INTEGER NOT NULL DEFAULT 0, -- the device also connects with its certificate as a TLS client
    UNIQUE (device_id, name)
);

-- What a slot was seen to serve; a row is added when that changes.
CREATE TABLE reading (
    id      INTEGER PRIMARY KEY,
    slot_id INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    at      INTEGER NOT NULL,
    chain   TEXT NOT NULL,
    version TEXT NOT NULL,
    suite   TEXT NOT NULL,
    failure TEXT NOT NULL
);

CREATE INDEX reading_of_slot ON reading (slot_id, id);

CREATE TABLE secret (
    purpose TEXT PRIMARY KEY,
    sealed  BLOB NOT NULL
) WITHOUT ROWID;

CREATE TABLE anchor (
    trust_group TEXT NOT NULL,
    sha256   TEXT NOT NULL REFERENCES certificate (sha256),
    added_at INTEGER NOT NULL,
    PRIMARY KEY (trust_group, sha256)
) WITHOUT ROWID;

-- Authorities that came with a pile: chains are completed from them. Being here
-- gives nobody any trust.
CREATE TABLE authority (
    sha256 TEXT PRIMARY KEY REFERENCES certificate (sha256)
) WITHOUT ROWID;

CREATE TABLE parcel (
    id        INTEGER PRIMARY KEY,
    signer    TEXT NOT NULL,
    packed_at INTEGER NOT NULL,
    packed_by TEXT NOT NULL,
    handed_to TEXT NOT NULL DEFAULT '',
    reference TEXT NOT NULL DEFAULT '',
    handed_by TEXT NOT NULL DEFAULT '',
    handed_at INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE replacement (
    id          INTEGER PRIMARY KEY,
    device_id   INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    slot_id     INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    signer      TEXT NOT NULL,
    plan        TEXT NOT NULL,
    stage       TEXT NOT NULL,
    state       TEXT NOT NULL,
    waiting_for TEXT NOT NULL,
    reverting   INTEGER NOT NULL,
    stopping    INTEGER NOT NULL,
    why         TEXT NOT NULL,
    old_sha256  TEXT NOT NULL DEFAULT '',
    new_sha256  TEXT NOT NULL DEFAULT '',
    request     BLOB NOT NULL DEFAULT x'', -- DER
    offered     TEXT NOT NULL DEFAULT '', -- a leaf that came back and could not be used yet
    spki        TEXT NOT NULL DEFAULT '', -- SHA-256 of the request's public key
    path        TEXT NOT NULL DEFAULT '[]', -- fingerprints, leaf to root
    parcel_id   INTEGER REFERENCES parcel (id),
    asked_by    TEXT NOT NULL,
    started_at    INTEGER NOT NULL,
    changed_at  INTEGER NOT NULL,
    since INTEGER NOT NULL DEFAULT 0,
    cluster TEXT NOT NULL DEFAULT '',
    approved_by TEXT NOT NULL DEFAULT '',
    procedure TEXT NOT NULL DEFAULT '', -- in procedure_text
    mark TEXT NOT NULL DEFAULT '', -- random: makes its work folder unlike that of any other database
    resumed INTEGER NOT NULL DEFAULT 0, -- the journal's last entry before a person let it go on
    leftover TEXT NOT NULL DEFAULT '', -- what is left on the device after the end
    unseen INTEGER NOT NULL DEFAULT 0, -- started although the slot could not be read
    tidied INTEGER NOT NULL DEFAULT 0, -- its work folder was removed: no revert any more
    edition INTEGER NOT NULL DEFAULT 2, -- of the language of procedures in which it began
    back TEXT NOT NULL DEFAULT '', -- why the way back did not come to its end
    closed_as TEXT NOT NULL DEFAULT '', -- by a person: new, old or neither
    keeps_until INTEGER NOT NULL DEFAULT 0, -- until when it can be retried; 0: nothing is kept
    retry_of INTEGER REFERENCES replacement (id) ON DELETE SET NULL,
    work TEXT NOT NULL DEFAULT '', -- the name of its work folder, where it took over that of another
    asked INTEGER NOT NULL DEFAULT 0, -- a person asked for the way back
    not_before INTEGER NOT NULL DEFAULT 0, -- nothing live is touched before
    after_open INTEGER NOT NULL DEFAULT 0, -- it waits for a window that opens after this moment; 0: the one that is open will do
    stop_after TEXT NOT NULL DEFAULT '', -- the stage after which it waits for a go-ahead
    paused_by TEXT NOT NULL DEFAULT '',
    any_time TEXT NOT NULL DEFAULT '', -- why it touches the device outside of the windows
    opens_at INTEGER NOT NULL DEFAULT 0, -- when the device may be touched; 0: not known
    closed TEXT NOT NULL DEFAULT '', -- what is in the way until then
    approved_what TEXT NOT NULL DEFAULT '' -- digest of what was approved
);

CREATE INDEX replacement_by_key ON replacement (spki);

CREATE INDEX replacement_of_slot ON replacement (slot_id, id);

-- The journal: a row is written before each step and filled after it.
CREATE TABLE step (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    section        TEXT NOT NULL,
    name           TEXT NOT NULL,
    verb           TEXT NOT NULL,
    text           TEXT NOT NULL,
    repeatable     INTEGER NOT NULL,
    began_at       INTEGER NOT NULL,
    ended_at       INTEGER NOT NULL DEFAULT 0,
    ok             INTEGER NOT NULL DEFAULT 0,
    exit_code      INTEGER NOT NULL DEFAULT 0,
    output         TEXT NOT NULL DEFAULT '',
    why            TEXT NOT NULL DEFAULT '',
    capture TEXT NOT NULL DEFAULT '',
    captured BLOB NOT NULL DEFAULT x'',
    unknown INTEGER NOT NULL DEFAULT 0,
    percent INTEGER NOT NULL DEFAULT 0,
    refused INTEGER NOT NULL DEFAULT 0, -- the device says that it changed nothing
    limit_at INTEGER NOT NULL DEFAULT 0 -- when its limit is over
);

CREATE INDEX step_of_replacement ON step (replacement_id, id);

CREATE TABLE user (
    name     TEXT PRIMARY KEY,
    password TEXT NOT NULL, -- argon2id, PHC string
    added_at INTEGER NOT NULL,
    role TEXT NOT NULL DEFAULT 'admin' -- viewer, operator or admin
) WITHOUT ROWID;

-- Sessions of browsers and tokens of clients; the bearer's secret itself is kept nowhere.
CREATE TABLE session (
    sha256   TEXT PRIMARY KEY,
    user     TEXT NOT NULL REFERENCES user (name) ON DELETE CASCADE,
    kind     TEXT NOT NULL, -- console or client
    began_at INTEGER NOT NULL,
    ends_at  INTEGER NOT NULL,
    role TEXT NOT NULL DEFAULT 'admin', -- at most that of its user
    label TEXT NOT NULL DEFAULT '' -- of a token
) WITHOUT ROWID;

-- A place with a way in. Devices name their site; one that is not here is
-- reached directly.
CREATE TABLE site (
    name     TEXT PRIMARY KEY,
    way      TEXT NOT NULL, -- direct, jump (an SSH server) or socks (SOCKS5)
    address  TEXT NOT NULL,
    port     INTEGER NOT NULL,
    user TEXT NOT NULL,
    pin TEXT NOT NULL,
    added_at INTEGER NOT NULL,
    subject TEXT NOT NULL DEFAULT '{}', -- JSON: what requests of its devices say
    most_links INTEGER NOT NULL DEFAULT 0, -- links at once; 0: no limit of its own
    behind TEXT NOT NULL DEFAULT '',
    paused INTEGER NOT NULL DEFAULT 0,
    presence TEXT NOT NULL DEFAULT '[]',
    holidays TEXT NOT NULL DEFAULT ''
) WITHOUT ROWID;

CREATE TABLE audit_before (
    id     INTEGER PRIMARY KEY,
    at     INTEGER NOT NULL,
    who    TEXT NOT NULL,
    what   TEXT NOT NULL,
    about  TEXT NOT NULL,
    hash   TEXT NOT NULL
);

-- +goose StatementBegin
CREATE TRIGGER audit_is_not_changed BEFORE UPDATE ON "audit_before" BEGIN SELECT raise(ABORT, 'the audit is append-only'); END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER audit_is_not_shortened BEFORE DELETE ON "audit_before" BEGIN SELECT raise(ABORT, 'the audit is append-only'); END;
-- +goose StatementEnd

CREATE TABLE policy (
    scope TEXT PRIMARY KEY, -- fleet, site/NAME or device/NAME
    rules TEXT NOT NULL -- JSON
) WITHOUT ROWID;

-- A step that a person does: what is given to them, and what they must give
-- back. It is open while the step is not ended and its replacement waits for a person.
CREATE TABLE task (
    step_id        INTEGER PRIMARY KEY REFERENCES step (id) ON DELETE CASCADE,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    copy           TEXT NOT NULL, -- JSON list of label and text
    files          TEXT NOT NULL, -- JSON list of name and content
    ask            TEXT NOT NULL, -- what must be given back; empty: nothing
    capture        TEXT NOT NULL, -- the name under which that is kept
    seen           TEXT NOT NULL, -- new, old or empty
    due_at         INTEGER NOT NULL,
    taken_by       TEXT NOT NULL DEFAULT '',
    notes          TEXT NOT NULL DEFAULT '[]', -- JSON list of at, by and text
    domains TEXT NOT NULL DEFAULT '[]', -- JSON: that a task proves to a signer
    is_key INTEGER NOT NULL DEFAULT 0
);

-- A way to sign in that several devices share.
CREATE TABLE credential (
    name     TEXT PRIMARY KEY,
    user TEXT NOT NULL,
    added_at INTEGER NOT NULL
) WITHOUT ROWID;

CREATE INDEX replacement_state ON replacement (state);

-- Which certificate of the service's own followed which, signed with the key
-- of the one before: clients that pinned it follow.
CREATE TABLE succession (
    id         INTEGER PRIMARY KEY,
    old_der    BLOB NOT NULL,
    new_sha256 TEXT NOT NULL,
    signature  BLOB NOT NULL,
    at         INTEGER NOT NULL
);

-- People who sign, and what they sign. The signers bench and desk are always there.
CREATE TABLE signer (
    name            TEXT PRIMARY KEY,
    about           TEXT NOT NULL,
    contact         TEXT NOT NULL,
    notes           TEXT NOT NULL, -- the steps of its portal, who validates the domain and how
    turnaround_days INTEGER NOT NULL, -- working days
    max_days        INTEGER NOT NULL, -- the longest certificate that it issues; 0: not known
    terms           TEXT NOT NULL, -- JSON
    added_at        INTEGER NOT NULL,
    proof TEXT NOT NULL DEFAULT '{}', -- JSON
    min_days INTEGER NOT NULL DEFAULT 0, -- the shortest certificate that it issues; 0: not known
    purchase TEXT NOT NULL DEFAULT '{}' -- JSON: the order by which it signs
) WITHOUT ROWID;

-- Requests that were asked for anew: a late answer to one is told from a stranger's.
CREATE TABLE obsolete_request (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    parcel_id      INTEGER REFERENCES parcel (id),
    spki           TEXT NOT NULL, -- SHA-256 of the public key
    request        BLOB NOT NULL,
    reason         TEXT NOT NULL,
    by             TEXT NOT NULL,
    at             INTEGER NOT NULL
);

CREATE INDEX obsolete_request_by_key ON obsolete_request (spki);

CREATE INDEX obsolete_request_by_parcel ON obsolete_request (parcel_id);

-- Leaves that came and that nobody waits for.
CREATE TABLE unmatched (
    sha256  TEXT PRIMARY KEY REFERENCES certificate (sha256),
    why     TEXT NOT NULL,
    came_at INTEGER NOT NULL,
    came_by TEXT NOT NULL
) WITHOUT ROWID;

CREATE TABLE proven (
    signer TEXT NOT NULL,
    domain TEXT NOT NULL,
    at     INTEGER NOT NULL,
    by     TEXT NOT NULL,
    PRIMARY KEY (signer, domain)
) WITHOUT ROWID;

-- Numbers that are never given twice, also when what had them was removed.
CREATE TABLE counter (
    name TEXT PRIMARY KEY,
    last INTEGER NOT NULL
) WITHOUT ROWID;

-- The text of each procedure that a replacement began with, by its SHA-256.
CREATE TABLE procedure_text (
    sha256 TEXT PRIMARY KEY,
    yaml   TEXT NOT NULL
) WITHOUT ROWID;

-- How a device is reached over one link.
CREATE TABLE access (
    device_id  INTEGER NOT NULL REFERENCES device (id) ON DELETE CASCADE,
    link       TEXT NOT NULL, -- ssh, https or netconf
    address    TEXT NOT NULL, -- empty: the device's
    port       INTEGER NOT NULL,
    user       TEXT NOT NULL,
    credential TEXT NOT NULL, -- a shared one, by name; empty: it has secrets of its own
    pin        TEXT NOT NULL, -- host key or certificate
    options    TEXT NOT NULL, -- JSON object
    PRIMARY KEY (device_id, link)
) WITHOUT ROWID;

CREATE INDEX access_by_credential ON access (credential) WHERE credential <> '';

-- How often something was changed by people: device/NAME, site/NAME, policy/SCOPE
-- and so on. It goes on counting when the thing is removed and made again.
CREATE TABLE revision (
    of     TEXT PRIMARY KEY,
    number INTEGER NOT NULL
) WITHOUT ROWID;

-- The slots to which a replacement gives the same certificate; the first is the one
-- by which it is listed.
CREATE TABLE target (
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    slot_id        INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    position       INTEGER NOT NULL,
    old_sha256     TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (replacement_id, slot_id)
) WITHOUT ROWID;

CREATE INDEX target_of_slot ON target (slot_id);

-- What happened, whatever it is about: streams, the audit and notices are fed from
-- it. It is written in the transaction of what happened.
CREATE TABLE outbox (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    at    INTEGER NOT NULL,
    kind  TEXT NOT NULL, -- stage, step, state, condition or act
    about TEXT NOT NULL, -- replacement/r12, slot/DEVICE/SLOT, or what an act was asked of
    who   TEXT NOT NULL, -- of an act; empty: nobody did it
    stage TEXT NOT NULL,
    state TEXT NOT NULL,
    text  TEXT NOT NULL
);

CREATE INDEX outbox_about ON outbox (about, id);

-- Who did what and when. Rows are only ever added; each carries the hash of
-- the one before it.
CREATE TABLE audit (
    id    INTEGER PRIMARY KEY,
    at    INTEGER NOT NULL,
    who   TEXT NOT NULL,
    what  TEXT NOT NULL,
    about TEXT NOT NULL,
    hash  TEXT NOT NULL
);

-- +goose StatementBegin
CREATE TRIGGER audit_stays_as_written BEFORE UPDATE ON audit BEGIN SELECT raise(ABORT, 'the audit is append-only'); END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER audit_stays_whole BEFORE DELETE ON audit BEGIN SELECT raise(ABORT, 'the audit is append-only'); END;
-- +goose StatementEnd

-- The filters of lists that people keep under a name.
CREATE TABLE view (
    user  TEXT NOT NULL,
    page  TEXT NOT NULL,
    name  TEXT NOT NULL,
    query TEXT NOT NULL,
    PRIMARY KEY (user, page, name)
) WITHOUT ROWID;

-- Many replacements that were asked for as one.
CREATE TABLE batch (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    terms    TEXT NOT NULL, -- JSON: signer, key and what was confirmed
    asked_by TEXT NOT NULL,
    started_at INTEGER NOT NULL,
    ended_at INTEGER NOT NULL DEFAULT 0, -- when nothing was left to begin
    stopped  TEXT NOT NULL DEFAULT '' -- who stopped it
);

CREATE TABLE batch_item (
    batch_id       INTEGER NOT NULL REFERENCES batch (id) ON DELETE CASCADE,
    position       INTEGER NOT NULL,
    device         TEXT NOT NULL,
    slot           TEXT NOT NULL,
    site           TEXT NOT NULL,
    outcome        TEXT NOT NULL DEFAULT 'waiting', -- waiting, started, refused, left
    why            TEXT NOT NULL DEFAULT '',
    next           TEXT NOT NULL DEFAULT '',
    replacement_id INTEGER,
    PRIMARY KEY (batch_id, position)
) WITHOUT ROWID;

CREATE INDEX batch_item_by_outcome ON batch_item (batch_id, outcome, position);

-- The chain with which a leaf was last seen or signed, as fingerprints, leaf first.
CREATE TABLE chain_of (
    leaf  TEXT PRIMARY KEY,
    chain TEXT NOT NULL
) WITHOUT ROWID;

-- How long a step usually takes is asked by its name.
CREATE INDEX step_by_name ON step (name, id);

-- Who recorded something of a slot's certificate and must be told when it changes.
CREATE TABLE pin (
    id       INTEGER PRIMARY KEY,
    slot_id  INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    who      TEXT NOT NULL,
    what     TEXT NOT NULL,
    how      TEXT NOT NULL,
    added_by TEXT NOT NULL,
    added_at INTEGER NOT NULL,
    UNIQUE (slot_id, who, what)
);

-- What they must be told: a row for each pin and change. It outlives the pin.
CREATE TABLE pin_update (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    slot_id        INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    who            TEXT NOT NULL,
    what           TEXT NOT NULL,
    how            TEXT NOT NULL,
    old_sha256     TEXT NOT NULL, -- of the certificates
    new_sha256     TEXT NOT NULL,
    arose_at       INTEGER NOT NULL,
    confirmed_at        INTEGER NOT NULL DEFAULT 0,
    confirmed_by        TEXT NOT NULL DEFAULT '',
    note           TEXT NOT NULL DEFAULT '' -- of who told them
);

CREATE INDEX pin_update_of_slot ON pin_update (slot_id, confirmed_at);

CREATE INDEX pin_update_open ON pin_update (confirmed_at, id);

CREATE INDEX slot_by_next ON slot (next_at);

CREATE INDEX device_by_site ON device (site, name);

-- What was last found out about the revocation of a certificate that is in use.
CREATE TABLE revocation (
    sha256     TEXT PRIMARY KEY,
    answer     TEXT NOT NULL,
    source     TEXT NOT NULL,
    failed     TEXT NOT NULL,
    since      INTEGER NOT NULL, -- of this state
    checked_at INTEGER NOT NULL,
    next_at    INTEGER NOT NULL
);

-- A discovery: the ranges asked for, its progress, and what was found.
CREATE TABLE discovery (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    asked    TEXT NOT NULL,
    by       TEXT NOT NULL,
    total    INTEGER NOT NULL,
    done     INTEGER NOT NULL, -- targets that were looked at, in their order
    began_at INTEGER NOT NULL,
    ended_at INTEGER NOT NULL, -- 0: under way
    why      TEXT NOT NULL -- why it ended early
);

CREATE TABLE find (
    id             INTEGER PRIMARY KEY,
    discovery_id INTEGER NOT NULL REFERENCES discovery (id) ON DELETE CASCADE,
    nth            INTEGER NOT NULL, -- place of its target
    address        TEXT NOT NULL,
    port           INTEGER NOT NULL,
    protocol       TEXT NOT NULL,
    server_name    TEXT NOT NULL,
    chain          TEXT NOT NULL,
    version        TEXT NOT NULL,
    banner         TEXT NOT NULL,
    failure        TEXT NOT NULL, -- why no certificate was seen, where somebody answered
    UNIQUE (discovery_id, nth)
);

-- Who is told of what: channels, rules, what each slot's matter is by each rule, and the queue of what is to be
-- sent.
CREATE TABLE channel (
    name     TEXT PRIMARY KEY,
    terms    TEXT NOT NULL,
    added_at INTEGER NOT NULL
);

CREATE TABLE notice_rule (
    name     TEXT PRIMARY KEY,
    terms    TEXT NOT NULL,
    added_at INTEGER NOT NULL
);

CREATE TABLE matter (
    rule    TEXT NOT NULL REFERENCES notice_rule (name) ON DELETE CASCADE,
    slot_id INTEGER NOT NULL REFERENCES slot (id) ON DELETE CASCADE,
    state   TEXT NOT NULL,
    PRIMARY KEY (rule, slot_id)
);

CREATE INDEX matter_by_slot ON matter (slot_id);

CREATE TABLE acknowledgement (
    slot_id INTEGER PRIMARY KEY REFERENCES slot (id) ON DELETE CASCADE,
    by      TEXT NOT NULL,
    reason  TEXT NOT NULL,
    at      INTEGER NOT NULL,
    until   INTEGER NOT NULL,
    worst   INTEGER NOT NULL -- the rank of the stage in which the slot was
);

CREATE TABLE notice (
    id      TEXT PRIMARY KEY,
    rule    TEXT NOT NULL,
    slot    TEXT NOT NULL, -- DEVICE/SLOT
    kind    TEXT NOT NULL,
    stage   TEXT NOT NULL,
    item    TEXT NOT NULL,
    made_at INTEGER NOT NULL
);

CREATE INDEX notice_by_time ON notice (made_at, id);

CREATE TABLE message (
    id       TEXT PRIMARY KEY,
    channel  TEXT NOT NULL,
    people   TEXT NOT NULL, -- the group that it is for
    body     TEXT NOT NULL,
    made_at  INTEGER NOT NULL,
    attempts INTEGER NOT NULL,
    next_at  INTEGER NOT NULL, -- 0: it is not tried again
    sent_at  INTEGER NOT NULL, -- 0: not yet
    error    TEXT NOT NULL
);

CREATE INDEX message_to_send ON message (next_at) WHERE next_at > 0;

CREATE TABLE delivery (
    notice_id  TEXT NOT NULL REFERENCES notice (id) ON DELETE CASCADE,
    channel    TEXT NOT NULL,
    due_at     INTEGER NOT NULL,
    message_id TEXT REFERENCES message (id), -- NULL: it is in no message yet
    PRIMARY KEY (notice_id, channel)
);

CREATE INDEX delivery_to_pack ON delivery (due_at) WHERE message_id IS NULL;

CREATE INDEX delivery_by_message ON delivery (message_id);

-- Up to where the outbox of events was looked at.
CREATE TABLE notice_cursor (
    only INTEGER PRIMARY KEY CHECK (only = 1),
    event INTEGER NOT NULL
);

-- What lists are sorted, filtered and searched by is held in memory (core/judgement/roster). The slots and devices that a change
-- touches in these things are noted here, and taken away again before the change is committed. Readings and judgements,
-- which are many, are not noted: store/condition.go tells the roster of them.
CREATE TABLE stale_slot (
    id INTEGER PRIMARY KEY
);

CREATE TABLE stale_device (
    id INTEGER PRIMARY KEY
);

-- +goose StatementBegin
CREATE TRIGGER slot_came AFTER INSERT ON slot BEGIN
    INSERT OR IGNORE INTO stale_slot VALUES (new.id);
END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER slot_changed AFTER UPDATE OF device_id, name, address, port, server_name, signer ON slot BEGIN
    INSERT OR IGNORE INTO stale_slot VALUES (new.id);
END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER slot_went AFTER DELETE ON slot BEGIN
    INSERT OR IGNORE INTO stale_slot VALUES (old.id);
END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER device_came AFTER INSERT ON device BEGIN
    INSERT OR IGNORE INTO stale_device VALUES (new.id);
END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER device_changed AFTER UPDATE OF name, site, family, address, owner, tags, notes, cluster ON device BEGIN
    INSERT OR IGNORE INTO stale_device VALUES (new.id);
END;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE TRIGGER device_went AFTER DELETE ON device BEGIN
    INSERT OR IGNORE INTO stale_device VALUES (old.id);
END;
-- +goose StatementEnd

-- What was told by a rule of what expires besides the certificates of slots.
CREATE TABLE thing_matter (
    rule  TEXT NOT NULL REFERENCES notice_rule (name) ON DELETE CASCADE,
    thing TEXT NOT NULL,
    state TEXT NOT NULL,
    of    TEXT NOT NULL, -- JSON: the thing
    PRIMARY KEY (rule, thing)
);

-- What stood on a device directly before the first change: what each address served (look wire), and what the device said of
-- its certificates (now, next, previous, pending).
CREATE TABLE stood (
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    slot_id        INTEGER NOT NULL DEFAULT 0, -- of the look wire
    look           TEXT NOT NULL,
    place          TEXT NOT NULL DEFAULT '', -- HOST:PORT, of the look wire
    value          TEXT NOT NULL,
    PRIMARY KEY (replacement_id, slot_id, look, place)
);

-- The certification authorities with which signers sign: learnt from their answers, or given.
CREATE TABLE signer_issuer (
    signer    TEXT    NOT NULL,
    spki      TEXT    NOT NULL, -- SHA-256 of its public key: a renewed certificate is the same issuer
    subject   TEXT    NOT NULL,
    days      INTEGER NOT NULL, -- the shortest lifetime that was accepted from it; 0: none yet
    confirmed INTEGER NOT NULL, -- by a person
    known_by  TEXT    NOT NULL,
    known_at  INTEGER NOT NULL,
    PRIMARY KEY (signer, spki)
) WITHOUT ROWID;

-- The answers that came for a replacement and were not used.
CREATE TABLE unused_answer (
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    sha256         TEXT    NOT NULL,
    why            TEXT    NOT NULL,
    came_at        INTEGER NOT NULL,
    came_by        TEXT    NOT NULL,
    PRIMARY KEY (replacement_id, sha256)
) WITHOUT ROWID;

CREATE UNIQUE INDEX replacement_touching ON replacement (device_id)
    WHERE state IN ('running', 'waiting', 'held') AND stage IN ('backup', 'trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal');

CREATE UNIQUE INDEX replacement_touching_cluster ON replacement (cluster)
    WHERE cluster <> '' AND state IN ('running', 'waiting', 'held') AND stage IN ('backup', 'trust', 'install', 'trial', 'activate', 'prove', 'mirror', 'seal');

-- What became of the names and uses that signers were asked for.
CREATE TABLE signer_habits (
    signer TEXT NOT NULL PRIMARY KEY,
    habits TEXT NOT NULL -- core/judgement/answer.Habits
) WITHOUT ROWID;

-- Files of devices that are kept off them, such as exports that were made before a change.
CREATE TABLE kept_file (
    id             INTEGER PRIMARY KEY,
    replacement_id INTEGER NOT NULL REFERENCES replacement (id) ON DELETE CASCADE,
    name           TEXT    NOT NULL,
    at             INTEGER NOT NULL,
    size           INTEGER NOT NULL,
    sha256         TEXT    NOT NULL,
    sealed         BLOB    NOT NULL,
    UNIQUE (replacement_id, name)
);

INSERT INTO counter (name, last) VALUES ('replacement', 0);
INSERT INTO notice_cursor VALUES (1, 0);
