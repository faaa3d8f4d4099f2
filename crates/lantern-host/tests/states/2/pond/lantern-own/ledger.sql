BEGIN TRANSACTION;
CREATE TABLE choice (id TEXT PRIMARY KEY, variant TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE failure (number INTEGER PRIMARY KEY, why TEXT NOT NULL);
CREATE TABLE inside (
        hash TEXT NOT NULL, wanted TEXT NOT NULL, found TEXT NOT NULL, PRIMARY KEY (hash, wanted)
    ) WITHOUT ROWID;
CREATE TABLE operation (
        number INTEGER PRIMARY KEY, kind TEXT NOT NULL, ended_ms INTEGER NOT NULL,
        came_from TEXT NOT NULL, went_to TEXT NOT NULL, way_back TEXT NOT NULL, undone INTEGER NOT NULL
    );
INSERT INTO "operation" VALUES(1,'changeover',1795613046263,'1','1','{"format":2,"moves":[{"from":"fish/carp-1.fish","to":".lantern/set-aside/0001-pond-1-to-1-2026-11-25/fish/carp-1.fish","expects":"bd7a3c679fdbe461fd993e478e837cfa778ae76ccc95378c4d32975414e4dbac"},{"from":".lantern/staging/0001/fish/carp-2.fish","to":"fish/carp-2.fish","expects":"003661a41aea5facd2d608c2df2d5190f912c801480b18486ac9a97eddd1893c"}],"record":{"files":{"fish/carp-1.fish":{"owner":"carp","version":"1","hash":"bd7a3c679fdbe461fd993e478e837cfa778ae76ccc95378c4d32975414e4dbac","shipped":false},"fish/carp-2.fish":null},"variants":{},"takes_back":null},"backup":"0001-pond-1-to-1-2026-11-25","restored":null}',0);
CREATE TABLE put (
        path TEXT PRIMARY KEY, hash TEXT NOT NULL, owner TEXT, version TEXT, shipped INTEGER NOT NULL,
        under_owner TEXT, under_version TEXT, under_hash TEXT
    ) WITHOUT ROWID;
INSERT INTO "put" VALUES('fish/carp-2.fish','003661a41aea5facd2d608c2df2d5190f912c801480b18486ac9a97eddd1893c','carp','2',1,NULL,NULL,NULL);
INSERT INTO "put" VALUES('lantern.toml','a09941bf2d4027da5d1d1df5b28bb5b6b9f730a2ba568caf3ebfbcc8722c46c0',NULL,NULL,0,NULL,NULL,NULL);
INSERT INTO "put" VALUES('pond.conf','4db1629baba6f08806687a99288c7e02f46e7a9bf8dcfaa60938d4b2a588377c',NULL,NULL,0,NULL,NULL,NULL);
INSERT INTO "put" VALUES('server/build.ini','08d2f59aa2f9799efb150777a69323522b3d977892073b60584a023c236f025f','pond','1',0,NULL,NULL,NULL);
INSERT INTO "put" VALUES('server/run.sh','65e6779e380ae779915a88616277cfcefe1c44ac61541cd9d26ec0daec6fd79d','pond','1',0,NULL,NULL,NULL);
INSERT INTO "put" VALUES('world/lock','af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262',NULL,NULL,0,NULL,NULL,NULL);
INSERT INTO "put" VALUES('world/map','581aa4167433b999b4fc6dedf43be1dffcfff1eb0edf6b4f58526c387ee2d52c',NULL,NULL,0,NULL,NULL,NULL);
CREATE TABLE seen (
        path TEXT PRIMARY KEY, bytes INTEGER NOT NULL, modified_ns INTEGER NOT NULL,
        changed_ns INTEGER NOT NULL, inode INTEGER NOT NULL, hash TEXT NOT NULL
    ) WITHOUT ROWID;
COMMIT;
PRAGMA user_version = 4;
