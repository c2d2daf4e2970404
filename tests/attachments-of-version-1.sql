BEGIN TRANSACTION;
CREATE TABLE attachment (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, name TEXT NOT NULL, type TEXT NOT NULL,
    size INTEGER NOT NULL, sha256 TEXT NOT NULL, path TEXT NOT NULL, modified INTEGER NOT NULL, note TEXT NOT NULL,
    recipe TEXT NOT NULL, PRIMARY KEY (message, key, wish)
) WITHOUT ROWID;
INSERT INTO "attachment" VALUES(1,'1.2:plan 0.txt','in/2026-03-09 Slipway desk - plan 0.txt','plan 0.txt','text/plain',8,'c16de9754d6f0819be29ae8b6206d6ad0a48d5929faf0e0ef5ec85189084ec0d','in/2026-03-09 Slipway desk - plan 0.txt',1773054120000000000,'','ece7e58b5272824d');
INSERT INTO "attachment" VALUES(2,'1.2:plan 1.txt','in/2026-03-09 Slipway desk - plan 1.txt','plan 1.txt','text/plain',8,'9c57abacf87be1b819adf3eb57ebc32325c025c1d8f07f849aa0fdf685d29a5c','in/2026-03-09 Slipway desk - plan 1.txt',1773054120000000000,'','ece7e58b5272824d');
INSERT INTO "attachment" VALUES(3,'1.2:plan 2.txt','in/2026-03-09 Slipway desk - plan 2.txt','plan 2.txt','text/plain',8,'1df09f0e12134b1e72a0adb811a28d15e9673715beeeba1a20b1e014005765e8','in/2026-03-09 Slipway desk - plan 2.txt',1773054120000000000,'','ece7e58b5272824d');
CREATE TABLE document (
    message INTEGER NOT NULL, key TEXT NOT NULL, wish TEXT NOT NULL, path TEXT NOT NULL, size INTEGER NOT NULL,
    sha256 TEXT NOT NULL, modified INTEGER NOT NULL, state TEXT NOT NULL, recipe TEXT NOT NULL,
    PRIMARY KEY (message, key, wish)
) WITHOUT ROWID;
CREATE TABLE list (name TEXT PRIMARY KEY, path TEXT NOT NULL, sha256 TEXT NOT NULL);
INSERT INTO "list" VALUES('register.csv','register.csv','c5128ed07d21910f515b444565338b0e03303b7e7dbde1b8a153ccd3e5a429f8');
INSERT INTO "list" VALUES('manifest-sha256.txt','manifest-sha256.txt','cf77b786b814bd94122551c5c1ea0f1ab06a140b99f9e512a35d29d0c1b5cad8');
CREATE TABLE message (
    number INTEGER PRIMARY KEY, source TEXT NOT NULL, folder TEXT NOT NULL, place TEXT NOT NULL, stamp TEXT NOT NULL,
    id TEXT NOT NULL, date TEXT NOT NULL, sender TEXT NOT NULL, subject TEXT NOT NULL, sha256 TEXT NOT NULL,
    UNIQUE (source, folder, place, stamp)
);
INSERT INTO "message" VALUES(1,'@HERE@/in.mbox','in','000000000000000-450','da2fac6ce8bdd940','yjs5ffybxr','2026-03-09T11:02:00+00:00','Slipway desk <slip@saltmere.example>','Permit 0','2d9d0dbd7d3a9c5b397fde00b0a69a92132ed8f513570b9ad31796245af29198');
INSERT INTO "message" VALUES(2,'@HERE@/in.mbox','in','000000000000451-450','04e28c49f8b5f570','nkbp0c04hr','2026-03-09T11:02:00+00:00','Slipway desk <slip@saltmere.example>','Permit 1','8f1bcceff7b89e1cdaa11ae2ad70f3fb74ff019c0f6cac17629bd23ceb4adeeb');
INSERT INTO "message" VALUES(3,'@HERE@/in.mbox','in','000000000000902-450','45ec0ce5304f0843','3377k5gh7q','2026-03-09T11:02:00+00:00','Slipway desk <slip@saltmere.example>','Permit 2','983ad8bd527fd659556870a791f9be1347d21840b0c13fef12f76946cf1ff77c');
CREATE TABLE met (message INTEGER NOT NULL, recipe TEXT NOT NULL, PRIMARY KEY (message,
recipe)) WITHOUT ROWID;
INSERT INTO "met" VALUES(1,'ece7e58b5272824d');
INSERT INTO "met" VALUES(2,'ece7e58b5272824d');
INSERT INTO "met" VALUES(3,'ece7e58b5272824d');
CREATE TABLE name (key TEXT PRIMARY KEY) WITHOUT ROWID;
INSERT INTO "name" VALUES('in/2026-03-09 slipway desk - plan 0.txt');
INSERT INTO "name" VALUES('in/2026-03-09 slipway desk - plan 1.txt');
INSERT INTO "name" VALUES('in/2026-03-09 slipway desk - plan 2.txt');
CREATE INDEX attachment_sha256 ON attachment (sha256);
CREATE INDEX attachment_path ON attachment (path);
CREATE INDEX message_sha256 ON message (sha256);
COMMIT;
