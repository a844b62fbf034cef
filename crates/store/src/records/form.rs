//! The form of the file: its tables, how each version came from the one before, and what keeps its sums right.
//!
//! A file of an earlier version is converted by its sole opener alone ([`convert`](mod@super::convert)).

use super::{cache, journal, keys, record, stops, upkeep};

/// The version that this program works with.
pub(super) const VERSION: i64 = 10;
/// The earliest version whose programs can work with what this one makes in a server, because it only adds to it.
#[cfg(feature = "replicas")]
pub(super) const WORKS_WITH: i64 = 8;
/// The version whose rows are filled in from all that was there; later ones add to it.
pub(super) const FILLED: i64 = 7;

const SCHEMA: &str = "
    CREATE TABLE repositories (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
    CREATE TABLE blobs (
        repository BIGINT NOT NULL, digest TEXT NOT NULL, size BIGINT NOT NULL,
        PRIMARY KEY (repository, digest)
    ) WITHOUT ROWID;
    CREATE INDEX blobs_by_digest ON blobs (digest);
    CREATE TABLE manifests (
        repository BIGINT NOT NULL, digest TEXT NOT NULL, media_type TEXT NOT NULL,
        size BIGINT NOT NULL, subject TEXT, added BIGINT NOT NULL,
        PRIMARY KEY (repository, digest)
    ) WITHOUT ROWID;
    CREATE TABLE needs (
        repository BIGINT NOT NULL, manifest TEXT NOT NULL, target TEXT NOT NULL,
        is_child BIGINT NOT NULL, PRIMARY KEY (repository, manifest, target)
    ) WITHOUT ROWID;
    CREATE INDEX needs_by_target ON needs (repository, target);
    CREATE TABLE tags (
        repository BIGINT NOT NULL, name TEXT NOT NULL, digest TEXT NOT NULL, since BIGINT NOT NULL,
        PRIMARY KEY (repository, name)
    ) WITHOUT ROWID;
";
/// What each later version added, to be carried out in turn: the first leads from version 1 to 2. Version 7 needs
/// more than statements; what came after it is in [`LATER`].
const STEPS: [&[&str]; 6] = [
    &[BY_SUBJECT, journal::TABLES],
    &[upkeep::COLUMNS, journal::USES],
    &[cache::TABLES],
    &[keys::TABLES, record::TABLES],
    &[stops::TABLES],
    &[CONTENTS],
];
const BY_SUBJECT: &str = "
    CREATE INDEX manifests_by_subject ON manifests (repository, subject, digest)
        WHERE subject IS NOT NULL;
";

/// What version 7 of the file has more than version 6: where each content lies, the bodies of manifests, leases, and
/// sums that are kept as they change.
///
/// - `contents`: one row for each blob, whichever repositories have it. `place` is the object that holds the bytes; an
///   object is never written twice. `links` counts the repositories that have it.
/// - `leavings`: objects that no row names any more and that are to be removed.
/// - `bodies`: manifests byte for byte, each once.
/// - `old_files`: files of manifests of the earlier form, which stay until all has been verified once.
/// - `holds`: how often a shelf's repositories have a content that an image of theirs needs; `totals`: the sums.
const CONTENTS: &str = "
    CREATE TABLE contents (
        digest TEXT PRIMARY KEY, size BIGINT NOT NULL, place TEXT NOT NULL, put_at BIGINT NOT NULL,
        state TEXT NOT NULL, links BIGINT NOT NULL
    ) WITHOUT ROWID;
    CREATE TABLE leavings (place TEXT PRIMARY KEY, at BIGINT NOT NULL) WITHOUT ROWID;
    CREATE TABLE bodies (digest TEXT PRIMARY KEY, body BLOB NOT NULL);
    CREATE TABLE old_files (place TEXT PRIMARY KEY) WITHOUT ROWID;
    CREATE TABLE leases (
        name TEXT PRIMARY KEY, holder TEXT NOT NULL, until BIGINT NOT NULL, fence BIGINT NOT NULL
    ) WITHOUT ROWID;
    CREATE TABLE changes (repository TEXT PRIMARY KEY, number BIGINT NOT NULL) WITHOUT ROWID;
    CREATE INDEX changes_by_number ON changes (number);

    ALTER TABLE repositories ADD COLUMN shelf TEXT NOT NULL DEFAULT '';
    UPDATE repositories SET shelf =
        CASE instr(name, '/') WHEN 0 THEN name ELSE substr(name, 1, instr(name, '/') - 1) END;
    ALTER TABLE repositories ADD COLUMN manifests BIGINT NOT NULL DEFAULT 0;
    CREATE INDEX repositories_by_shelf ON repositories (shelf);
    ALTER TABLE manifests ADD COLUMN artifact_type TEXT;
    ALTER TABLE manifests ADD COLUMN annotations TEXT;
    ALTER TABLE manifests ADD COLUMN volume BIGINT NOT NULL DEFAULT 0;
    ALTER TABLE manifests ADD COLUMN tags BIGINT NOT NULL DEFAULT 0;
    ALTER TABLE blobs ADD COLUMN users BIGINT NOT NULL DEFAULT 0;
    DROP INDEX needs_by_target;
    CREATE INDEX needs_by_target ON needs (target, repository);

    ALTER TABLE uploads ADD COLUMN digest TEXT;
    ALTER TABLE uploads ADD COLUMN touched BIGINT NOT NULL DEFAULT 0;
    DROP TABLE parts;
    CREATE INDEX uploads_by_digest ON uploads (digest) WHERE digest IS NOT NULL;

    CREATE TABLE holds (
        shelf TEXT NOT NULL, digest TEXT NOT NULL, size BIGINT NOT NULL, links BIGINT NOT NULL,
        PRIMARY KEY (shelf, digest)
    ) WITHOUT ROWID;
    CREATE TABLE totals (
        shelf TEXT PRIMARY KEY, repositories BIGINT NOT NULL DEFAULT 0, tags BIGINT NOT NULL DEFAULT 0,
        manifests BIGINT NOT NULL DEFAULT 0, blobs BIGINT NOT NULL DEFAULT 0, bytes BIGINT NOT NULL DEFAULT 0,
        alone BIGINT NOT NULL DEFAULT 0, apart BIGINT NOT NULL DEFAULT 0, loose BIGINT NOT NULL DEFAULT 0,
        changed BIGINT, pulled BIGINT
    ) WITHOUT ROWID;
    CREATE TABLE shelf_uses (
        shelf TEXT NOT NULL, day BIGINT NOT NULL, pulls BIGINT NOT NULL, PRIMARY KEY (shelf, day)
    ) WITHOUT ROWID;
    INSERT INTO totals (shelf) VALUES ('');
";

/// What an earlier file's rows say of the new tables and columns, in one go; the places are those of the earlier form.
pub(super) const FILL: &str = "
    INSERT INTO contents (digest, size, place, put_at, state, links)
        SELECT digest, MAX(size),
            'blobs/' || substr(digest, 1, instr(digest, ':') - 1) || '/' || substr(digest, instr(digest, ':') + 1, 2)
                || '/' || substr(digest, instr(digest, ':') + 1),
            CAST(strftime('%s', 'now') AS BIGINT) * 1000, 'here', COUNT(*)
        FROM blobs GROUP BY digest;
    UPDATE blobs SET users = (SELECT COUNT(*) FROM needs n
        WHERE n.repository = blobs.repository AND n.target = blobs.digest AND n.is_child = 0);
    UPDATE repositories SET manifests =
        (SELECT COUNT(*) FROM manifests m WHERE m.repository = repositories.id);
    UPDATE manifests SET tags = (SELECT COUNT(*) FROM tags t
        WHERE t.repository = manifests.repository AND t.digest = manifests.digest);
    UPDATE manifests SET volume = size + (SELECT COALESCE(SUM(b.size), 0) FROM needs n
        JOIN blobs b ON b.repository = n.repository AND b.digest = n.target
        WHERE n.repository = manifests.repository AND n.manifest = manifests.digest AND n.is_child = 0);
    INSERT INTO holds (shelf, digest, size, links)
        SELECT shelf, digest, MAX(size), COUNT(*) FROM (
            SELECT r.shelf AS shelf, b.digest AS digest, b.size AS size FROM blobs b
                JOIN repositories r ON r.id = b.repository WHERE b.users > 0
            UNION ALL
            SELECT r.shelf, m.digest, m.size FROM manifests m JOIN repositories r ON r.id = m.repository)
        GROUP BY shelf, digest;
";

/// The sums over all that [`FILL`] has filled in, once the volume of every index is right too.
pub(super) const SUM: &str = "
    INSERT INTO totals (shelf) SELECT DISTINCT shelf FROM repositories WHERE shelf <> '';
    UPDATE totals SET
        repositories = (SELECT COUNT(*) FROM repositories r WHERE r.shelf = totals.shelf AND r.manifests > 0),
        tags = (SELECT COUNT(*) FROM tags t JOIN repositories r ON r.id = t.repository WHERE r.shelf = totals.shelf),
        bytes = (SELECT COALESCE(SUM(h.size), 0) FROM holds h WHERE h.shelf = totals.shelf),
        alone = (SELECT COALESCE(SUM(h.size), 0) FROM holds h WHERE h.shelf = totals.shelf AND NOT EXISTS
            (SELECT 1 FROM holds o WHERE o.digest = h.digest AND o.shelf <> h.shelf)),
        apart = (SELECT COALESCE(SUM(m.volume), 0) FROM manifests m JOIN repositories r ON r.id = m.repository
            WHERE r.shelf = totals.shelf AND m.tags > 0),
        loose = (SELECT COALESCE(SUM(b.size), 0) FROM blobs b JOIN repositories r ON r.id = b.repository
            WHERE r.shelf = totals.shelf AND b.users = 0),
        changed = (SELECT MAX(t.since) FROM tags t JOIN repositories r ON r.id = t.repository
            WHERE r.shelf = totals.shelf),
        pulled = (SELECT MAX(u.last) FROM uses u JOIN repositories r ON r.id = u.repository
            WHERE r.shelf = totals.shelf AND NOT EXISTS (SELECT 1 FROM needs n
                WHERE n.repository = u.repository AND n.target = u.digest AND n.is_child = 1))
        WHERE shelf <> '';
    UPDATE totals SET
        repositories = (SELECT COUNT(*) FROM repositories r WHERE r.manifests > 0),
        tags = (SELECT COUNT(*) FROM tags),
        manifests = (SELECT COUNT(*) FROM bodies),
        blobs = (SELECT COUNT(*) FROM contents WHERE links > 0),
        bytes = (SELECT COALESCE(SUM(size), 0) FROM contents WHERE links > 0)
            + (SELECT COALESCE(SUM(length(body)), 0) FROM bodies)
        WHERE shelf = '';
    INSERT INTO shelf_uses (shelf, day, pulls)
        SELECT r.shelf, u.day, SUM(u.pulls) FROM uses u JOIN repositories r ON r.id = u.repository
        WHERE NOT EXISTS (SELECT 1 FROM needs n
            WHERE n.repository = u.repository AND n.target = u.digest AND n.is_child = 1)
        GROUP BY r.shelf, u.day;
";

/// Indexes that are quicker made once the rows are there.
pub(super) const INDEXES: &str = "
    CREATE INDEX contents_loose ON contents (put_at) WHERE links = 0;
    CREATE INDEX contents_damaged ON contents (digest) WHERE state = 'damaged';
    CREATE INDEX holds_by_digest ON holds (digest);
    CREATE INDEX blobs_idle ON blobs (idle) WHERE users = 0;
";

/// What keeps the sums right, whichever statement changes what they are over.
pub(super) const TRIGGERS: &str = "
    CREATE TRIGGER repository_new AFTER INSERT ON repositories BEGIN
        INSERT INTO totals (shelf) SELECT NEW.shelf
            WHERE NOT EXISTS (SELECT 1 FROM totals WHERE shelf = NEW.shelf);
    END;
    CREATE TRIGGER repository_filled AFTER UPDATE OF manifests ON repositories
    WHEN (OLD.manifests = 0) <> (NEW.manifests = 0) BEGIN
        UPDATE totals SET repositories = repositories + (OLD.manifests = 0) - (NEW.manifests = 0)
            WHERE shelf IN ('', NEW.shelf);
    END;

    CREATE TRIGGER blob_of_nothing BEFORE INSERT ON blobs
    WHEN NOT EXISTS (SELECT 1 FROM contents c WHERE c.digest = NEW.digest) BEGIN
        SELECT RAISE(ABORT, 'a repository can only have a blob that the store has');
    END;
    CREATE TRIGGER blob_linked AFTER INSERT ON blobs BEGIN
        UPDATE contents SET links = links + 1 WHERE digest = NEW.digest;
    END;
    CREATE TRIGGER blob_unlinked AFTER DELETE ON blobs BEGIN
        UPDATE contents SET links = links - 1 WHERE digest = OLD.digest;
    END;
    CREATE TRIGGER content_linked AFTER UPDATE OF links ON contents
    WHEN (OLD.links = 0) <> (NEW.links = 0) BEGIN
        UPDATE totals SET blobs = blobs + (OLD.links = 0) - (NEW.links = 0),
            bytes = bytes + NEW.size * ((OLD.links = 0) - (NEW.links = 0)) WHERE shelf = '';
    END;
    CREATE TRIGGER body_new AFTER INSERT ON bodies BEGIN
        UPDATE totals SET manifests = manifests + 1, bytes = bytes + length(NEW.body) WHERE shelf = '';
    END;
    CREATE TRIGGER body_gone AFTER DELETE ON bodies BEGIN
        UPDATE totals SET manifests = manifests - 1, bytes = bytes - length(OLD.body) WHERE shelf = '';
    END;

    CREATE TRIGGER blob_counted AFTER INSERT ON blobs WHEN NEW.users > 0 BEGIN
        UPDATE holds SET links = links + 1
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository) AND digest = NEW.digest;
        INSERT INTO holds (shelf, digest, size, links)
            SELECT r.shelf, NEW.digest, NEW.size, 1 FROM repositories r WHERE r.id = NEW.repository
            AND NOT EXISTS (SELECT 1 FROM holds h WHERE h.shelf = r.shelf AND h.digest = NEW.digest);
    END;
    CREATE TRIGGER blob_uncounted AFTER DELETE ON blobs WHEN OLD.users > 0 BEGIN
        UPDATE holds SET links = links - 1
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = OLD.repository) AND digest = OLD.digest;
    END;
    CREATE TRIGGER blob_loose AFTER INSERT ON blobs WHEN NEW.users = 0 BEGIN
        UPDATE totals SET loose = loose + NEW.size
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository);
    END;
    CREATE TRIGGER blob_loose_gone AFTER DELETE ON blobs WHEN OLD.users = 0 BEGIN
        UPDATE totals SET loose = loose - OLD.size
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = OLD.repository);
    END;
    CREATE TRIGGER blob_needed AFTER UPDATE OF users ON blobs WHEN OLD.users = 0 AND NEW.users > 0 BEGIN
        UPDATE totals SET loose = loose - NEW.size
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository);
        UPDATE holds SET links = links + 1
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository) AND digest = NEW.digest;
        INSERT INTO holds (shelf, digest, size, links)
            SELECT r.shelf, NEW.digest, NEW.size, 1 FROM repositories r WHERE r.id = NEW.repository
            AND NOT EXISTS (SELECT 1 FROM holds h WHERE h.shelf = r.shelf AND h.digest = NEW.digest);
    END;
    CREATE TRIGGER blob_needless AFTER UPDATE OF users ON blobs WHEN OLD.users > 0 AND NEW.users = 0 BEGIN
        UPDATE totals SET loose = loose + NEW.size
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository);
        UPDATE holds SET links = links - 1
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository) AND digest = NEW.digest;
    END;
    CREATE TRIGGER need_new AFTER INSERT ON needs WHEN NEW.is_child = 0 BEGIN
        UPDATE blobs SET users = users + 1 WHERE repository = NEW.repository AND digest = NEW.target;
    END;
    CREATE TRIGGER need_gone AFTER DELETE ON needs WHEN OLD.is_child = 0 BEGIN
        UPDATE blobs SET users = users - 1 WHERE repository = OLD.repository AND digest = OLD.target;
    END;

    CREATE TRIGGER manifest_new AFTER INSERT ON manifests BEGIN
        UPDATE repositories SET manifests = manifests + 1 WHERE id = NEW.repository;
        UPDATE holds SET links = links + 1
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository) AND digest = NEW.digest;
        INSERT INTO holds (shelf, digest, size, links)
            SELECT r.shelf, NEW.digest, NEW.size, 1 FROM repositories r WHERE r.id = NEW.repository
            AND NOT EXISTS (SELECT 1 FROM holds h WHERE h.shelf = r.shelf AND h.digest = NEW.digest);
    END;
    CREATE TRIGGER manifest_gone AFTER DELETE ON manifests BEGIN
        UPDATE repositories SET manifests = manifests - 1 WHERE id = OLD.repository;
        UPDATE holds SET links = links - 1
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = OLD.repository) AND digest = OLD.digest;
        DELETE FROM bodies WHERE digest = OLD.digest
            AND NOT EXISTS (SELECT 1 FROM manifests m WHERE m.digest = OLD.digest);
        UPDATE totals SET apart = apart - OLD.volume * (OLD.tags > 0)
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = OLD.repository);
    END;
    CREATE TRIGGER manifest_tagged AFTER UPDATE OF tags, volume ON manifests BEGIN
        UPDATE totals SET apart = apart + NEW.volume * (NEW.tags > 0) - OLD.volume * (OLD.tags > 0)
            WHERE shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository);
    END;

    CREATE TRIGGER tag_new AFTER INSERT ON tags BEGIN
        UPDATE manifests SET tags = tags + 1 WHERE repository = NEW.repository AND digest = NEW.digest;
        UPDATE totals SET tags = tags + 1, changed = MAX(COALESCE(changed, NEW.since), NEW.since)
            WHERE shelf IN ('', (SELECT shelf FROM repositories WHERE id = NEW.repository));
    END;
    CREATE TRIGGER tag_gone AFTER DELETE ON tags BEGIN
        UPDATE manifests SET tags = tags - 1 WHERE repository = OLD.repository AND digest = OLD.digest;
        UPDATE totals SET tags = tags - 1
            WHERE shelf IN ('', (SELECT shelf FROM repositories WHERE id = OLD.repository));
    END;
    CREATE TRIGGER tag_moved AFTER UPDATE OF digest ON tags WHEN OLD.digest <> NEW.digest BEGIN
        UPDATE manifests SET tags = tags - 1 WHERE repository = OLD.repository AND digest = OLD.digest;
        UPDATE manifests SET tags = tags + 1 WHERE repository = NEW.repository AND digest = NEW.digest;
        UPDATE totals SET changed = MAX(COALESCE(changed, NEW.since), NEW.since)
            WHERE shelf IN ('', (SELECT shelf FROM repositories WHERE id = NEW.repository));
    END;

    CREATE TRIGGER hold_new AFTER INSERT ON holds BEGIN
        UPDATE totals SET bytes = bytes + NEW.size WHERE shelf = NEW.shelf;
        UPDATE totals SET alone = alone + NEW.size WHERE shelf = NEW.shelf AND 1 =
            (SELECT COUNT(*) FROM (SELECT 1 FROM holds WHERE digest = NEW.digest LIMIT 3));
        UPDATE totals SET alone = alone - NEW.size WHERE 2 =
            (SELECT COUNT(*) FROM (SELECT 1 FROM holds WHERE digest = NEW.digest LIMIT 3))
            AND shelf = (SELECT h.shelf FROM holds h WHERE h.digest = NEW.digest AND h.shelf <> NEW.shelf);
    END;
    CREATE TRIGGER hold_ended AFTER UPDATE OF links ON holds WHEN NEW.links = 0 BEGIN
        DELETE FROM holds WHERE shelf = NEW.shelf AND digest = NEW.digest;
    END;
    CREATE TRIGGER hold_gone AFTER DELETE ON holds BEGIN
        UPDATE totals SET bytes = bytes - OLD.size WHERE shelf = OLD.shelf;
        UPDATE totals SET alone = alone - OLD.size WHERE shelf = OLD.shelf AND 0 =
            (SELECT COUNT(*) FROM (SELECT 1 FROM holds WHERE digest = OLD.digest LIMIT 2));
        UPDATE totals SET alone = alone + OLD.size WHERE 1 =
            (SELECT COUNT(*) FROM (SELECT 1 FROM holds WHERE digest = OLD.digest LIMIT 2))
            AND shelf = (SELECT h.shelf FROM holds h WHERE h.digest = OLD.digest);
    END;
";

/// What each version after [`FILLED`] added, to be carried out in turn.
const LATER: [&[&str]; 3] = [
    &[super::sightings::TABLES, super::marks::TABLES, super::quotas::TABLES, record::ORIGIN],
    &[super::inventories::TABLES],
    &[super::images::COLUMNS],
];

/// What leads a server from an earlier version to this one, and only adds to it: from which, and the statements.
#[cfg(feature = "replicas")]
pub(super) const SERVER_STEPS: [(i64, &str); 2] =
    [(8, super::inventories::SERVER_STEP), (9, super::images::SERVER_STEP)];

/// The statements that lead from a version to [`FILLED`], up to its rows.
pub(super) fn steps(found: i64) -> impl Iterator<Item = &'static str> {
    let first = (found == 0).then_some(SCHEMA);
    first.into_iter().chain(since(&STEPS, found.max(1) - 1))
}

/// The statements that lead from [`FILLED`] or a later version to the one that this program works with.
pub(super) fn later_steps(found: i64) -> impl Iterator<Item = &'static str> {
    since(&LATER, found.max(FILLED) - FILLED)
}

fn since(all: &'static [&'static [&'static str]], done: i64) -> impl Iterator<Item = &'static str> {
    all.iter().skip(usize::try_from(done).unwrap_or_default()).copied().flatten().copied()
}
