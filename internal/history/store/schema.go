package store

// migrations bring a file forward, each from the form of its index to the next. They are
// never changed once they have been released: what is to be otherwise is one more.
//
// Times are in milliseconds since 1970, lengths of time in milliseconds. A detail is JSON,
// packed by pack. A host, a thing and a place are told once and then by number, since most
// of a run's hundred thousand tasks say nothing else. Who refers to whom is for Check: held to
// at every insert it would cost a tenth more.
var migrations = []string{`
CREATE TABLE run (
	id INTEGER PRIMARY KEY,
	uuid TEXT NOT NULL UNIQUE,
	project TEXT NOT NULL,
	env TEXT NOT NULL,
	number INTEGER NOT NULL,
	mode TEXT NOT NULL,
	who TEXT NOT NULL,
	machine TEXT NOT NULL,
	command TEXT NOT NULL,
	params TEXT NOT NULL,
	revision TEXT NOT NULL,
	edited INTEGER NOT NULL,
	whole INTEGER NOT NULL,
	declared INTEGER NOT NULL,
	undoes INTEGER NOT NULL,
	started INTEGER NOT NULL,
	ended INTEGER,
	code INTEGER NOT NULL DEFAULT 0,
	beat INTEGER NOT NULL,
	pid INTEGER NOT NULL,
	elsewhere INTEGER NOT NULL DEFAULT 0,
	tree INTEGER REFERENCES tree(id),
	UNIQUE (project, number)
);
CREATE TABLE host (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE thing (id INTEGER PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL, UNIQUE (kind, name));
CREATE TABLE place (id INTEGER PRIMARY KEY, file TEXT NOT NULL, line INTEGER NOT NULL, UNIQUE (file, line));
CREATE TABLE labels (id INTEGER PRIMARY KEY, list TEXT NOT NULL UNIQUE);
CREATE TABLE visit (
	id INTEGER PRIMARY KEY,
	run INTEGER NOT NULL REFERENCES run(id),
	host INTEGER NOT NULL REFERENCES host(id),
	nth INTEGER NOT NULL,
	state TEXT NOT NULL DEFAULT '',
	outcome TEXT NOT NULL DEFAULT '',
	began INTEGER NOT NULL DEFAULT 0,
	took INTEGER NOT NULL DEFAULT 0,
	planned INTEGER NOT NULL DEFAULT 0,
	changed INTEGER NOT NULL DEFAULT 0,
	failed INTEGER NOT NULL DEFAULT 0,
	unchanged INTEGER NOT NULL DEFAULT 0,
	left_out INTEGER NOT NULL DEFAULT 0,
	blocked INTEGER NOT NULL DEFAULT 0,
	stopped INTEGER NOT NULL DEFAULT 0,
	collected_by INTEGER NOT NULL DEFAULT 0,
	facts INTEGER REFERENCES content(id),
	hand TEXT NOT NULL DEFAULT '',
	detail BLOB,
	UNIQUE (run, host)
);
CREATE INDEX visit_host ON visit(host, run);
CREATE TABLE task (
	visit INTEGER NOT NULL REFERENCES visit(id),
	nth INTEGER NOT NULL,
	thing INTEGER NOT NULL REFERENCES thing(id),
	place INTEGER NOT NULL REFERENCES place(id),
	labels INTEGER REFERENCES labels(id),
	status INTEGER NOT NULL,
	began INTEGER NOT NULL,
	took INTEGER NOT NULL,
	detail BLOB,
	PRIMARY KEY (visit, nth)
) WITHOUT ROWID;
CREATE INDEX task_moved ON task(thing, visit) WHERE status IN (1, 2, 5);
CREATE TABLE note (
	run INTEGER NOT NULL REFERENCES run(id),
	key TEXT NOT NULL,
	value TEXT NOT NULL,
	PRIMARY KEY (run, key)
) WITHOUT ROWID;
CREATE TABLE content (id INTEGER PRIMARY KEY, sha256 BLOB NOT NULL UNIQUE, size INTEGER NOT NULL, packed BLOB NOT NULL);
CREATE TABLE tree (id INTEGER PRIMARY KEY, sha256 BLOB NOT NULL UNIQUE);
CREATE TABLE leaf (
	tree INTEGER NOT NULL REFERENCES tree(id),
	path TEXT NOT NULL,
	size INTEGER NOT NULL,
	content INTEGER REFERENCES content(id),
	PRIMARY KEY (tree, path)
) WITHOUT ROWID;
CREATE INDEX leaf_content ON leaf(content);
CREATE TABLE known (
	project TEXT NOT NULL,
	env TEXT NOT NULL,
	host TEXT NOT NULL,
	read INTEGER NOT NULL,
	facts INTEGER NOT NULL REFERENCES content(id),
	groups TEXT,
	ran INTEGER NOT NULL DEFAULT 0,
	PRIMARY KEY (project, env, host)
) WITHOUT ROWID;
CREATE TABLE said (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, visit INTEGER NOT NULL, nth INTEGER NOT NULL);
CREATE INDEX said_run ON said(run);
CREATE VIRTUAL TABLE words USING fts5(text, content='', contentless_delete=1);
`}
