package store

// fileForms bring a file forward, each from the form of its index to the next. They are
// never changed once they have been released: what is to be otherwise is one more.
//
// Times are in milliseconds since 1970, lengths of time in milliseconds. A detail is JSON,
// packed by pack. A host, a thing and a place are stored once and then by number, since most
// of a run's hundred thousand tasks say nothing else. Who refers to whom is for Check: held to
// at every insert it would cost a tenth more.
var fileForms = []string{`
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
	job TEXT NOT NULL,
	answers TEXT NOT NULL,
	source TEXT NOT NULL,
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
CREATE INDEX run_job ON run(project, job) WHERE job <> '';
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
	skipped INTEGER NOT NULL DEFAULT 0,
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
CREATE TABLE moved (
	id INTEGER PRIMARY KEY,
	project TEXT NOT NULL,
	env TEXT NOT NULL,
	host TEXT NOT NULL,
	what TEXT NOT NULL,
	grp TEXT NOT NULL,
	why TEXT NOT NULL,
	at INTEGER NOT NULL,
	run INTEGER NOT NULL
);
CREATE INDEX moved_at ON moved(project, env, at);
CREATE TABLE said (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, visit INTEGER NOT NULL, nth INTEGER NOT NULL);
CREATE INDEX said_run ON said(run);
CREATE VIRTUAL TABLE words USING fts5(text, content='', contentless_delete=1);
`, `
ALTER TABLE run ADD COLUMN part TEXT NOT NULL DEFAULT '{}';
`, `
ALTER TABLE known ADD COLUMN mac BLOB NOT NULL DEFAULT x'';
`, `
CREATE TABLE list (id INTEGER PRIMARY KEY, sha256 BLOB NOT NULL UNIQUE);
CREATE TABLE item (
	list INTEGER NOT NULL REFERENCES list(id),
	nth INTEGER NOT NULL,
	thing INTEGER NOT NULL REFERENCES thing(id),
	place INTEGER NOT NULL REFERENCES place(id),
	labels INTEGER REFERENCES labels(id),
	status INTEGER NOT NULL,
	detail BLOB,
	PRIMARY KEY (list, nth)
) WITHOUT ROWID;
CREATE INDEX item_thing ON item(thing);
ALTER TABLE visit ADD COLUMN list INTEGER REFERENCES list(id);
ALTER TABLE visit ADD COLUMN times BLOB;
CREATE INDEX visit_list ON visit(list) WHERE list IS NOT NULL;
CREATE INDEX visit_facts ON visit(facts) WHERE facts IS NOT NULL;
`}

// serverForms are the same for PostgreSQL, which holds rows to each other by itself. A text is
// found by the words in its row. The time is the server's, since controllers' clocks differ.
var serverForms = []string{`
CREATE TABLE form (version bigint NOT NULL);
INSERT INTO form VALUES (0);
CREATE FUNCTION now_ms() RETURNS bigint LANGUAGE sql VOLATILE AS
	$$ SELECT (extract(epoch FROM clock_timestamp()) * 1000)::bigint $$;
CREATE TABLE host (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, name text NOT NULL UNIQUE);
CREATE TABLE thing (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
	kind text NOT NULL, name text NOT NULL, UNIQUE (kind, name));
CREATE TABLE place (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
	file text NOT NULL, line bigint NOT NULL, UNIQUE (file, line));
CREATE TABLE labels (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, list text NOT NULL UNIQUE);
CREATE TABLE content (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
	sha256 bytea NOT NULL UNIQUE, size bigint NOT NULL,
	packed bytea NOT NULL);
CREATE TABLE tree (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, sha256 bytea NOT NULL UNIQUE);
CREATE TABLE leaf (
	tree bigint NOT NULL REFERENCES tree(id),
	path text NOT NULL,
	size bigint NOT NULL,
	content bigint REFERENCES content(id),
	PRIMARY KEY (tree, path)
);
CREATE INDEX leaf_content ON leaf(content);
CREATE TABLE run (
	id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
	uuid text NOT NULL UNIQUE,
	project text NOT NULL,
	env text NOT NULL,
	number bigint NOT NULL,
	mode text NOT NULL,
	who text NOT NULL,
	machine text NOT NULL,
	command text NOT NULL,
	params text NOT NULL,
	job text NOT NULL,
	answers text NOT NULL,
	source text NOT NULL,
	revision text NOT NULL,
	edited boolean NOT NULL,
	whole boolean NOT NULL,
	declared boolean NOT NULL,
	undoes bigint NOT NULL,
	started bigint NOT NULL,
	ended bigint,
	code bigint NOT NULL DEFAULT 0,
	beat bigint NOT NULL,
	pid bigint NOT NULL,
	elsewhere boolean NOT NULL DEFAULT false,
	tree bigint REFERENCES tree(id),
	UNIQUE (project, number)
);
CREATE INDEX run_job ON run(project, job) WHERE job <> '';
CREATE TABLE visit (
	id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
	run bigint NOT NULL REFERENCES run(id),
	host bigint NOT NULL REFERENCES host(id),
	nth bigint NOT NULL,
	state text NOT NULL DEFAULT '',
	outcome text NOT NULL DEFAULT '',
	began bigint NOT NULL DEFAULT 0,
	took bigint NOT NULL DEFAULT 0,
	planned bigint NOT NULL DEFAULT 0,
	changed bigint NOT NULL DEFAULT 0,
	failed bigint NOT NULL DEFAULT 0,
	unchanged bigint NOT NULL DEFAULT 0,
	skipped bigint NOT NULL DEFAULT 0,
	blocked bigint NOT NULL DEFAULT 0,
	stopped boolean NOT NULL DEFAULT false,
	collected_by bigint NOT NULL DEFAULT 0,
	facts bigint REFERENCES content(id),
	hand text NOT NULL DEFAULT '',
	detail bytea,
	UNIQUE (run, host)
);
CREATE INDEX visit_host ON visit(host, run);
CREATE INDEX visit_facts ON visit(facts);
CREATE TABLE task (
	visit bigint NOT NULL REFERENCES visit(id),
	nth bigint NOT NULL,
	thing bigint NOT NULL REFERENCES thing(id),
	place bigint NOT NULL REFERENCES place(id),
	labels bigint REFERENCES labels(id),
	status bigint NOT NULL,
	began bigint NOT NULL,
	took bigint NOT NULL,
	detail bytea,
	PRIMARY KEY (visit, nth)
);
CREATE INDEX task_moved ON task(thing, visit) WHERE status IN (1, 2, 5);
CREATE INDEX task_thing ON task(thing);
CREATE INDEX task_place ON task(place);
CREATE INDEX task_labels ON task(labels) WHERE labels IS NOT NULL;
CREATE TABLE note (
	run bigint NOT NULL REFERENCES run(id),
	key text NOT NULL,
	value text NOT NULL,
	PRIMARY KEY (run, key)
);
CREATE TABLE known (
	project text NOT NULL,
	env text NOT NULL,
	host text NOT NULL,
	read bigint NOT NULL,
	facts bigint NOT NULL REFERENCES content(id),
	groups text,
	ran bigint NOT NULL DEFAULT 0,
	PRIMARY KEY (project, env, host)
);
CREATE TABLE moved (
	id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY,
	project text NOT NULL,
	env text NOT NULL,
	host text NOT NULL,
	what text NOT NULL,
	grp text NOT NULL,
	why text NOT NULL,
	at bigint NOT NULL,
	run bigint NOT NULL
);
CREATE INDEX moved_at ON moved(project, env, at);
CREATE TABLE said (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, run bigint NOT NULL, visit bigint NOT NULL,
	nth bigint NOT NULL, words tsvector NOT NULL);
CREATE INDEX said_run ON said(run);
CREATE INDEX said_words ON said USING gin(words);
`, `
ALTER TABLE run ADD COLUMN part text NOT NULL DEFAULT '{}';
`, `
ALTER TABLE known ADD COLUMN mac bytea NOT NULL DEFAULT '';
`, `
CREATE TABLE list (id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, sha256 bytea NOT NULL UNIQUE);
CREATE TABLE item (
	list bigint NOT NULL REFERENCES list(id),
	nth bigint NOT NULL,
	thing bigint NOT NULL REFERENCES thing(id),
	place bigint NOT NULL REFERENCES place(id),
	labels bigint REFERENCES labels(id),
	status bigint NOT NULL,
	detail bytea,
	PRIMARY KEY (list, nth)
);
CREATE INDEX item_thing ON item(thing);
CREATE INDEX item_place ON item(place);
CREATE INDEX item_labels ON item(labels) WHERE labels IS NOT NULL;
ALTER TABLE visit ADD COLUMN list bigint REFERENCES list(id);
ALTER TABLE visit ADD COLUMN times bytea;
CREATE INDEX visit_list ON visit(list) WHERE list IS NOT NULL;
`}
