PRAGMA foreign_keys=OFF;
BEGIN TRANSACTION;
CREATE TABLE message (
    number INTEGER PRIMARY KEY,
    source TEXT NOT NULL, folder TEXT NOT NULL, place TEXT NOT NULL, stamp TEXT NOT NULL, id TEXT NOT NULL,
    size INTEGER NOT NULL, digest TEXT, arrival TEXT,
    facts TEXT NOT NULL, attachments TEXT NOT NULL DEFAULT '', notes TEXT NOT NULL DEFAULT '[]',
    outcome TEXT NOT NULL DEFAULT '', reason TEXT NOT NULL DEFAULT '', run INTEGER NOT NULL,
    tags TEXT NOT NULL DEFAULT ''
);
INSERT INTO message VALUES(1,'@HERE@/in.mbox','in','000000000000000-225','81447b91f7c16b88','f9wv07fejt',173,'18d28e8116985cc72fd1746345548651ce0fd642a66393d81637085cca338a81',NULL,'2026-03-14T15:03:00+00:00,Ines Halden <ines.halden@quaysurvey.example>,Records <records@saltmere.example>,,"''=1+1, ""quoted"""','','[]','written','',1,'=a');
INSERT INTO message VALUES(2,'@HERE@/in.mbox','in','000000000000226-216','aaadfc4449674edb','agmfdpgv48',164,'ccb874b8ebcf2ea7e74e466b44596e4f9580a3a7493c07909c71fb0cb6e524ea',NULL,'2026-03-14T15:03:00+00:00,Ines Halden <ines.halden@quaysurvey.example>,Records <records@saltmere.example>,,''Fog''','','[]','written','',1,'=a');
CREATE TABLE name (
    message INTEGER NOT NULL, naming TEXT NOT NULL, key TEXT NOT NULL, stem TEXT NOT NULL, PRIMARY KEY (message, naming)
) WITHOUT ROWID;
INSERT INTO name VALUES(1,'d487a8d5d4c6581a','in/2026-03-14 1503 ines halden - =1+1, ''quoted''','in/2026-03-14 1503 Ines Halden - =1+1, ''quoted''');
INSERT INTO name VALUES(2,'d487a8d5d4c6581a','in/2026-03-14 1503 ines halden - ''fog''','in/2026-03-14 1503 Ines Halden - ''Fog''');
CREATE TABLE file (
    path TEXT NOT NULL, message INTEGER NOT NULL, format TEXT NOT NULL, naming TEXT NOT NULL, recipe TEXT NOT NULL,
    size INTEGER NOT NULL, modified INTEGER NOT NULL, sha256 TEXT NOT NULL, notes TEXT NOT NULL DEFAULT '[]',
    PRIMARY KEY (message, path)
) WITHOUT ROWID;
INSERT INTO file VALUES('manifest-sha256.txt',0,'list:manifest-sha256.txt','','',306,0,'55815a6a5ac0893bfad6d99f3cbde7abff16380d0aefd11f5d25c89056726c51','[]');
INSERT INTO file VALUES('register.csv',0,'list:register.csv','','',620,0,'8f5702733c47a929d24c0d098a5e5deabfb7512afb94c41585abbb8b8fe99966','[]');
INSERT INTO file VALUES('in/2026-03-14 1503 Ines Halden - =1+1, ''quoted''.eml',1,'eml','d487a8d5d4c6581a','eml|=a',173,1795681205133704082,'18d28e8116985cc72fd1746345548651ce0fd642a66393d81637085cca338a81','[]');
INSERT INTO file VALUES('in/2026-03-14 1503 Ines Halden - ''Fog''.eml',2,'eml','d487a8d5d4c6581a','eml|=a',164,1795681205133704082,'ccb874b8ebcf2ea7e74e466b44596e4f9580a3a7493c07909c71fb0cb6e524ea','[]');
CREATE INDEX message_run ON message (run, folder, place);
CREATE INDEX name_key ON name (key);
COMMIT;
