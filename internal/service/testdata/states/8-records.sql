BEGIN TRANSACTION;
CREATE TABLE acceptances (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    finding     TEXT NOT NULL UNIQUE,
    reason      TEXT NOT NULL,
    until       TEXT NOT NULL,                   -- RFC 3339, UTC
    accepted_by TEXT NOT NULL
) STRICT;
CREATE TABLE client_rules (
    id              INTEGER PRIMARY KEY AUTOINCREMENT,
    export_id       INTEGER REFERENCES exports (id) ON DELETE CASCADE,
    set_id          INTEGER REFERENCES host_sets (id) ON DELETE CASCADE,
    position        INTEGER NOT NULL,
    hosts           TEXT,
    uses_set        INTEGER REFERENCES host_sets (id),
    read_write      INTEGER NOT NULL DEFAULT 0,
    squash          TEXT NOT NULL DEFAULT 'root' CHECK (squash IN ('none', 'root', 'all')),
    anon_uid        INTEGER NOT NULL DEFAULT 65534 CHECK (anon_uid BETWEEN 0 AND 4294967294),
    anon_gid        INTEGER NOT NULL DEFAULT 65534 CHECK (anon_gid BETWEEN 0 AND 4294967294),
    security        TEXT NOT NULL DEFAULT 'sys',   -- flavours, with commas between
    privileged_port INTEGER NOT NULL DEFAULT 0,
    unknown         TEXT NOT NULL DEFAULT 'refused' CHECK (unknown IN ('refused', 'anonymous', 'number')),
    CHECK ((export_id IS NULL) <> (set_id IS NULL)),
    CHECK ((hosts IS NULL) <> (uses_set IS NULL)),
    CHECK (uses_set IS NULL OR export_id IS NOT NULL)
) STRICT;
INSERT INTO "client_rules" VALUES(1,NULL,1,1,'192.0.2.16/28',NULL,1,'root',65534,65534,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(2,NULL,1,2,'dome*.larkfell.example',NULL,1,'root',65534,65534,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(3,NULL,2,1,'192.0.2.32/28',NULL,1,'root',65534,65534,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(4,1,NULL,1,NULL,1,0,'root',0,0,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(5,2,NULL,1,NULL,1,0,'root',0,0,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(6,2,NULL,2,'192.0.2.0/24',NULL,0,'root',65534,65534,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(7,2,NULL,3,'127.0.0.1',NULL,0,'root',65534,65534,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(8,3,NULL,1,'*',NULL,1,'none',65534,65534,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(9,4,NULL,1,NULL,2,0,'root',0,0,'sys',0,'refused');
INSERT INTO "client_rules" VALUES(10,4,NULL,2,'127.0.0.1',NULL,1,'root',65534,65534,'sys',0,'number');
INSERT INTO "client_rules" VALUES(11,2,NULL,4,'192.0.2.99',NULL,0,'root',65534,65534,'sys',0,'refused');
CREATE TABLE "entries" (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    place_id INTEGER REFERENCES places (id) ON DELETE CASCADE,
    share_id INTEGER REFERENCES shares (id) ON DELETE CASCADE,
    deny     INTEGER NOT NULL DEFAULT 0,
    special  INTEGER,                            -- identity.Kind of owner@, group@, everyone@
    user_id  INTEGER REFERENCES users (id),
    group_id INTEGER REFERENCES groups (id),
    level    INTEGER NOT NULL CHECK (level BETWEEN 0 AND 5),
    mask     INTEGER NOT NULL DEFAULT 0,         -- RFC 8881 section 6.2.1.3.1
    applies  INTEGER NOT NULL CHECK (applies BETWEEN 1 AND 15),
    expires  TEXT,                               -- RFC 3339, UTC; NULL is never
    note     TEXT NOT NULL DEFAULT '',
    CHECK ((place_id IS NULL) <> (share_id IS NULL)),
    CHECK ((level = 0) = (mask <> 0)),
    CHECK ((special IS NOT NULL) + (user_id IS NOT NULL) + (group_id IS NOT NULL) = 1)
) STRICT;
INSERT INTO "entries" VALUES(1,1,NULL,0,NULL,NULL,1,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(2,1,NULL,0,NULL,NULL,4,2,0,7,NULL,'');
INSERT INTO "entries" VALUES(3,2,NULL,0,NULL,NULL,2,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(4,2,NULL,0,NULL,NULL,4,2,0,7,NULL,'');
INSERT INTO "entries" VALUES(5,3,NULL,0,NULL,NULL,2,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(6,4,NULL,0,NULL,NULL,2,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(7,4,NULL,0,NULL,4,NULL,2,0,7,NULL,'For the spring calibration');
INSERT INTO "entries" VALUES(8,5,NULL,0,NULL,NULL,3,3,0,7,NULL,'');
INSERT INTO "entries" VALUES(9,5,NULL,0,NULL,NULL,4,2,0,7,NULL,'');
INSERT INTO "entries" VALUES(10,5,NULL,0,NULL,9,NULL,2,0,7,NULL,'A mistake to find; Corin has left');
INSERT INTO "entries" VALUES(11,6,NULL,0,NULL,NULL,5,3,0,7,NULL,'');
INSERT INTO "entries" VALUES(12,6,NULL,0,NULL,NULL,4,2,0,7,NULL,'');
INSERT INTO "entries" VALUES(13,7,NULL,0,NULL,NULL,4,2,0,1,NULL,'');
INSERT INTO "entries" VALUES(14,8,NULL,0,NULL,7,NULL,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(15,9,NULL,0,NULL,4,NULL,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(16,10,NULL,0,NULL,5,NULL,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(17,11,NULL,0,NULL,6,NULL,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(18,12,NULL,0,NULL,3,NULL,4,0,7,NULL,'');
INSERT INTO "entries" VALUES(19,1,NULL,0,NULL,3,NULL,0,393216,1,NULL,'decides who gets in');
INSERT INTO "entries" VALUES(20,2,NULL,0,NULL,6,NULL,0,393216,1,NULL,'decides who gets in');
INSERT INTO "entries" VALUES(21,5,NULL,0,NULL,7,NULL,0,393216,1,NULL,'decides who gets in');
INSERT INTO "entries" VALUES(22,6,NULL,0,NULL,3,NULL,0,393216,1,NULL,'decides who gets in');
INSERT INTO "entries" VALUES(23,7,NULL,0,NULL,3,NULL,0,393216,1,NULL,'decides who gets in');
INSERT INTO "entries" VALUES(24,13,NULL,1,NULL,12,NULL,2,0,7,NULL,'');
CREATE TABLE exports (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    path          TEXT NOT NULL UNIQUE,            -- what clients mount
    folder_id     INTEGER NOT NULL REFERENCES folders (id) ON DELETE CASCADE,
    below         TEXT NOT NULL DEFAULT '',        -- where in the folder it begins
    description   TEXT NOT NULL DEFAULT '',
    sync          INTEGER NOT NULL DEFAULT 0,
    client_groups INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO "exports" VALUES(1,'/instruments',2,'','',0,0);
INSERT INTO "exports" VALUES(2,'/plates',3,'','Raw plates, as the dome writes them',0,0);
INSERT INTO "exports" VALUES(3,'/visitors',4,'','',0,0);
INSERT INTO "exports" VALUES(4,'/scratch',5,'','',0,0);
CREATE TABLE folders (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
    volume_id   INTEGER NOT NULL REFERENCES volumes (id),
    path        TEXT NOT NULL,
    description TEXT NOT NULL DEFAULT '',
    owner_id    INTEGER REFERENCES users (id),
    group_id    INTEGER REFERENCES groups (id), permissions TEXT NOT NULL DEFAULT 'acl' CHECK (permissions IN ('acl', 'unix')), ownership TEXT NOT NULL DEFAULT 'mapped' CHECK (ownership IN ('mapped', 'native')), log_access INTEGER NOT NULL DEFAULT 0,
    UNIQUE (volume_id, path)
) STRICT;
INSERT INTO "folders" VALUES(1,'nightlog',1,'nightlog','The observers'' log of each night',3,1,'acl','mapped',0);
INSERT INTO "folders" VALUES(2,'instruments',1,'instruments','Manuals, calibration and firmware',3,2,'acl','mapped',0);
INSERT INTO "folders" VALUES(3,'plates',1,'plates','The raw archive; what is added is never altered',3,3,'acl','mapped',0);
INSERT INTO "folders" VALUES(4,'visitors',1,'visitors','Visiting observers leave their data here',3,5,'acl','mapped',0);
INSERT INTO "folders" VALUES(5,'scratch',1,'scratch','Room for the reduction hosts; nothing here is kept',11,4,'unix','mapped',0);
INSERT INTO "folders" VALUES(6,'personal',1,'personal','One directory each, seen by its owner only',3,4,'acl','mapped',0);
CREATE TABLE goose_db_version (
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		version_id INTEGER NOT NULL,
		is_applied INTEGER NOT NULL,
		tstamp TIMESTAMP DEFAULT (datetime('now'))
	);
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(3,2,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(4,3,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(5,4,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(6,5,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(7,6,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(8,7,1,'2026-11-27 13:02:52');
INSERT INTO "goose_db_version" VALUES(9,8,1,'2026-11-27 13:02:52');
CREATE TABLE groups (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
    gid         INTEGER NOT NULL UNIQUE CHECK (gid BETWEEN 0 AND 4294967294),
    description TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO "groups" VALUES(1,'observers',3001,'Night observers');
INSERT INTO "groups" VALUES(2,'engineers',3002,'Instrument engineers');
INSERT INTO "groups" VALUES(3,'archive',3003,'Keepers of the plate archive');
INSERT INTO "groups" VALUES(4,'staff',3000,'Everybody employed at Larkfell');
INSERT INTO "groups" VALUES(5,'visitors',3010,'Visiting observers');
CREATE TABLE hooks (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    name   TEXT NOT NULL UNIQUE COLLATE NOCASE,
    site   TEXT NOT NULL,                        -- scheme and host of its address
    is_off INTEGER NOT NULL DEFAULT 0,
    sealed BLOB NOT NULL                         -- its whole address and its secret, sealed with the key file
) STRICT;
INSERT INTO "hooks" VALUES(1,'ops','https://alerts.larkfell.example',0,X'0A38262568DECFF3655522FB745CA0D24F6062125F911D1399AAF5421DC4027E81BBC787AA3092E211B837139A5DD7A4323BF28C728838EA0D9F46E875E3305F549B2B8AD801887089C25C2BB93D6391B793CA9701701C48B5F39800E8B277132761A396D23A76A38876542D6CADC22BD86D0699389C62329C07CA2A9E2C92FEFA3DFE5DEA58F261');
CREATE TABLE host_sets (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
    description TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO "host_sets" VALUES(1,'dome-hosts','Dome control, on the mountain''s own network');
INSERT INTO "host_sets" VALUES(2,'reduction-hosts','Where the raw plates become catalogues');
CREATE TABLE id_lists (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    host    TEXT NOT NULL UNIQUE COLLATE NOCASE,
    numbers TEXT NOT NULL                        -- JSON: kind, name and number of each
) STRICT;
INSERT INTO "id_lists" VALUES(1,'dome1','[{"name":"svc-dome","number":2101},{"name":"tomasz","number":2004},{"name":"piran","number":2002}]');
CREATE TABLE journal (
    seq     INTEGER PRIMARY KEY,
    at      TEXT NOT NULL,
    actor   TEXT NOT NULL,
    action  TEXT NOT NULL,
    subject TEXT NOT NULL,
    changes TEXT NOT NULL,                       -- JSON: kind, id, before, after of each record
    prev    BLOB NOT NULL,
    hash    BLOB NOT NULL
) STRICT;
INSERT INTO "journal" VALUES(1,'2026-11-27T13:02:52.215519589Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'129A393A585142BA30A54ECE7172AD8F20453F6BC9ACEB49F61E8F6D5B56AEA6');
INSERT INTO "journal" VALUES(2,'2026-11-27T13:02:52.224659733Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'129A393A585142BA30A54ECE7172AD8F20453F6BC9ACEB49F61E8F6D5B56AEA6',X'429DE33DA0AC9C078CB695C90E048B0D80C97014B42CC2853BF5857C90F3B5D8');
INSERT INTO "journal" VALUES(3,'2026-11-27T13:02:52.227280818Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'429DE33DA0AC9C078CB695C90E048B0D80C97014B42CC2853BF5857C90F3B5D8',X'EE75BC87DDE2689021905706A0202BE751F00DE692F2F685288F4C6BE165693F');
INSERT INTO "journal" VALUES(4,'2026-11-27T13:02:52.23051146Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'EE75BC87DDE2689021905706A0202BE751F00DE692F2F685288F4C6BE165693F',X'A114BBE19E54BE17CAF77CA2B0217FA6F086F02BA817F628A9610EEE3FFF9095');
INSERT INTO "journal" VALUES(5,'2026-11-27T13:02:52.234276283Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'A114BBE19E54BE17CAF77CA2B0217FA6F086F02BA817F628A9610EEE3FFF9095',X'2F3A0423EC91CDA16FF11B2967EB0A74936C33504F0FE4276DD6687FEE63FE4B');
INSERT INTO "journal" VALUES(6,'2026-11-27T13:02:52.235241685Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'2F3A0423EC91CDA16FF11B2967EB0A74936C33504F0FE4276DD6687FEE63FE4B',X'1C3DB0ACE443043F3A4419D36DFE974BBCE0AD8042A30A87B895486D01759CC2');
INSERT INTO "journal" VALUES(7,'2026-11-27T13:02:52.339978482Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900,"mail":"keeper@larkfell.example"}}]',X'1C3DB0ACE443043F3A4419D36DFE974BBCE0AD8042A30A87B895486D01759CC2',X'856AF4BF80C1BC30447578B308BE6BF431807E570346B47538C5949982FA460D');
INSERT INTO "journal" VALUES(8,'2026-11-27T13:02:52.41931792Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'856AF4BF80C1BC30447578B308BE6BF431807E570346B47538C5949982FA460D',X'F2E58E5073407165680BDA3B1D26AB7324E825169825DA70D801ED41241BB56A');
INSERT INTO "journal" VALUES(9,'2026-11-27T13:02:52.478109649Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true,"mail":"wren@larkfell.example"}}]',X'F2E58E5073407165680BDA3B1D26AB7324E825169825DA70D801ED41241BB56A',X'77CB7CB7FB639FDA80822F0525C76016BB7410CCC594FAC494C93AE3FC0E4B41');
INSERT INTO "journal" VALUES(10,'2026-11-27T13:02:52.512782573Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true,"mail":"isolde@larkfell.example"}}]',X'77CB7CB7FB639FDA80822F0525C76016BB7410CCC594FAC494C93AE3FC0E4B41',X'8AF8EFBCDD45D0AB43DC29F22D206AB7F70870A56C2383A094181C284B216D62');
INSERT INTO "journal" VALUES(11,'2026-11-27T13:02:52.552438898Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true,"mail":"piran@larkfell.example"}}]',X'8AF8EFBCDD45D0AB43DC29F22D206AB7F70870A56C2383A094181C284B216D62',X'97C9D991F242EE96BD4A8A4AC6C29FADBB2B05D51ACC86ECB89E916A387AF153');
INSERT INTO "journal" VALUES(12,'2026-11-27T13:02:52.587960794Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true,"mail":"tomasz@larkfell.example"}}]',X'97C9D991F242EE96BD4A8A4AC6C29FADBB2B05D51ACC86ECB89E916A387AF153',X'5F52496133137F5A9DEA816A1B45CC7EC667D24DD357565E6C72D894A46DDDD3');
INSERT INTO "journal" VALUES(13,'2026-11-27T13:02:52.62532313Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true,"mail":"bettany@larkfell.example"}}]',X'5F52496133137F5A9DEA816A1B45CC7EC667D24DD357565E6C72D894A46DDDD3',X'14057EB51A3F38DDE007F3C523C115A780B9776CB03E5E37B6F53EC6A689E394');
INSERT INTO "journal" VALUES(14,'2026-11-27T13:02:52.660295384Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true,"mail":"orla@larkfell.example"}}]',X'14057EB51A3F38DDE007F3C523C115A780B9776CB03E5E37B6F53EC6A689E394',X'E19DAB37C34A07BD4AF4C2CD672D4FBBB16F5C9005E0F500EC20CB90B61FF207');
INSERT INTO "journal" VALUES(15,'2026-11-27T13:02:52.696939152Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'E19DAB37C34A07BD4AF4C2CD672D4FBBB16F5C9005E0F500EC20CB90B61FF207',X'7AEB11C54DDFD476E8B024DFC720C63E554504A7FED6849AF34DD89E78215FF0');
INSERT INTO "journal" VALUES(16,'2026-11-27T13:02:52.698018712Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'7AEB11C54DDFD476E8B024DFC720C63E554504A7FED6849AF34DD89E78215FF0',X'A82A98DC4ADCABCFACD3B32510A62632DF0D4754D58E86BBF33D9E89758C53B9');
INSERT INTO "journal" VALUES(17,'2026-11-27T13:02:52.736806136Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"primary":3,"service":true,"nfs":true}}]',X'A82A98DC4ADCABCFACD3B32510A62632DF0D4754D58E86BBF33D9E89758C53B9',X'070FAE864A156CFF19FA30C6179D2A6224212BA2B8A41317AF1A513799F7C33A');
INSERT INTO "journal" VALUES(18,'2026-11-27T13:02:52.776843743Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"primary":1,"service":true,"nfs":true}}]',X'070FAE864A156CFF19FA30C6179D2A6224212BA2B8A41317AF1A513799F7C33A',X'0163E30CD5AF849D20042619D844A3E1E14871D5D7E36F95204B106A6AA282D5');
INSERT INTO "journal" VALUES(19,'2026-11-27T13:02:52.777937116Z','service','add member svc-dome','archive','[{"kind":"group","id":3,"before":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"},"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive","members":[{"kind":1,"id":10}]}}]',X'0163E30CD5AF849D20042619D844A3E1E14871D5D7E36F95204B106A6AA282D5',X'F290C3E82A0FB13F962DA2A4742ABB6A7A53B4D7E10293D3F337F8B42A4A69B7');
INSERT INTO "journal" VALUES(20,'2026-11-27T13:02:52.782448771Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'F290C3E82A0FB13F962DA2A4742ABB6A7A53B4D7E10293D3F337F8B42A4A69B7',X'477635F06939D8C2AB26E9DDC02DA22ADB56E0EB2BC356F1664A6A84C332D085');
INSERT INTO "journal" VALUES(21,'2026-11-27T13:02:52.785050584Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'477635F06939D8C2AB26E9DDC02DA22ADB56E0EB2BC356F1664A6A84C332D085',X'2A0F234CDFF05CB59FBA5911D41A80375B0A1B890A304B0724555905620DFD39');
INSERT INTO "journal" VALUES(22,'2026-11-27T13:02:52.790453475Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'2A0F234CDFF05CB59FBA5911D41A80375B0A1B890A304B0724555905620DFD39',X'6745FE3687F97D637F2F36EA17788CCC3F8B3776EB881C55A0354B8EA2474219');
INSERT INTO "journal" VALUES(23,'2026-11-27T13:02:52.794532034Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'6745FE3687F97D637F2F36EA17788CCC3F8B3776EB881C55A0354B8EA2474219',X'6B6A920ECC91E6B3C4DF3560FA851CE28DE2D2C2CF731D21CD04CE3F42E8A561');
INSERT INTO "journal" VALUES(24,'2026-11-27T13:02:52.802447087Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit","counting":"size","mark":"18d9fc1da2d3beae1ea251b1919082f1"}}]',X'6B6A920ECC91E6B3C4DF3560FA851CE28DE2D2C2CF731D21CD04CE3F42E8A561',X'7548C1B02A2B320DBC9CCFC1D655138F6DA880A588653FB8C8C71AD4E9E39026');
INSERT INTO "journal" VALUES(25,'2026-11-27T13:02:52.805656103Z','service','add host set','dome-hosts','[{"kind":"host set","id":1,"after":{"id":1,"name":"dome-hosts","description":"Dome control, on the mountain''s own network","rules":[{"id":1,"from":"192.0.2.16/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":2,"from":"dome*.larkfell.example","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'7548C1B02A2B320DBC9CCFC1D655138F6DA880A588653FB8C8C71AD4E9E39026',X'9F4F7528F66BBDD3E1660AB67C81DE9D64B29478363FF65402F222B4805442C1');
INSERT INTO "journal" VALUES(26,'2026-11-27T13:02:52.809846557Z','service','add host set','reduction-hosts','[{"kind":"host set","id":2,"after":{"id":2,"name":"reduction-hosts","description":"Where the raw plates become catalogues","rules":[{"id":3,"from":"192.0.2.32/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'9F4F7528F66BBDD3E1660AB67C81DE9D64B29478363FF65402F222B4805442C1',X'ADBC6B62AA0664F1232119F7E621B868CCDEA25DC098A5D3CFE67D62F7BF5D23');
INSERT INTO "journal" VALUES(27,'2026-11-27T13:02:52.812094716Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1,"permissions":"acl","ownership":"mapped"}}]',X'ADBC6B62AA0664F1232119F7E621B868CCDEA25DC098A5D3CFE67D62F7BF5D23',X'736F4C61CAAE87098DFDEE68A7C538FB6C7B92EC376E969870DAD0AC65AF799F');
INSERT INTO "journal" VALUES(28,'2026-11-27T13:02:52.813442168Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'736F4C61CAAE87098DFDEE68A7C538FB6C7B92EC376E969870DAD0AC65AF799F',X'D0619F709822492D9D25CF094F551665D0824736A79391A77ED35AA997B715EA');
INSERT INTO "journal" VALUES(29,'2026-11-27T13:02:52.814757252Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'D0619F709822492D9D25CF094F551665D0824736A79391A77ED35AA997B715EA',X'9E70EF41313C75506063AA215D538B2E1A7A0E1FB64AF1BF6CEA8D74CA96E008');
INSERT INTO "journal" VALUES(30,'2026-11-27T13:02:52.815727387Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'9E70EF41313C75506063AA215D538B2E1A7A0E1FB64AF1BF6CEA8D74CA96E008',X'322DD536FBD5711E55038370609C04C3919C6D60854B7D8207D11F620FF08628');
INSERT INTO "journal" VALUES(31,'2026-11-27T13:02:52.818865926Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2,"permissions":"acl","ownership":"mapped"}}]',X'322DD536FBD5711E55038370609C04C3919C6D60854B7D8207D11F620FF08628',X'B9A611FBE7D3EB81E2E2DA0162B056C7089CA23ED56DF5E176EBF36EF4E0DBAD');
INSERT INTO "journal" VALUES(32,'2026-11-27T13:02:52.820429429Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'B9A611FBE7D3EB81E2E2DA0162B056C7089CA23ED56DF5E176EBF36EF4E0DBAD',X'AB4BD4329DEFDE2DF51099A71709E54C93FE444D34EB5363A8A307F7F02C795C');
INSERT INTO "journal" VALUES(33,'2026-11-27T13:02:52.821903866Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'AB4BD4329DEFDE2DF51099A71709E54C93FE444D34EB5363A8A307F7F02C795C',X'078FEB1059A861F5A51E44EA5A0D8ACFD8AC44922544BFF60768233B447F2F99');
INSERT INTO "journal" VALUES(34,'2026-11-27T13:02:52.823257705Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'078FEB1059A861F5A51E44EA5A0D8ACFD8AC44922544BFF60768233B447F2F99',X'9F258846994DBDEBF660B1C5E5864B7CC6F2E8877BADAB502333135E78C1B938');
INSERT INTO "journal" VALUES(35,'2026-11-27T13:02:52.824641577Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'9F258846994DBDEBF660B1C5E5864B7CC6F2E8877BADAB502333135E78C1B938',X'B653F102BF39BB93F72FA60D2F606361BC0079C825849AAD3C2E14BF2C039005');
INSERT INTO "journal" VALUES(36,'2026-11-27T13:02:52.826049898Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'B653F102BF39BB93F72FA60D2F606361BC0079C825849AAD3C2E14BF2C039005',X'BFA2E6F369A2CFEEDDA854EEAA00282EA2DB4461EEDB350DF788DCEB29989373');
INSERT INTO "journal" VALUES(37,'2026-11-27T13:02:52.827471438Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'BFA2E6F369A2CFEEDDA854EEAA00282EA2DB4461EEDB350DF788DCEB29989373',X'78C4F3DF03DBBE8A6F9D615ADEA8DD7B37CD1AE9D9FC009F989BFA76A4498F05');
INSERT INTO "journal" VALUES(38,'2026-11-27T13:02:52.828907864Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'78C4F3DF03DBBE8A6F9D615ADEA8DD7B37CD1AE9D9FC009F989BFA76A4498F05',X'92448E6CA15A66C8293BF7C37301327340F34CFC4AF34E41267199697AB70ED9');
INSERT INTO "journal" VALUES(39,'2026-11-27T13:02:52.830331891Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'92448E6CA15A66C8293BF7C37301327340F34CFC4AF34E41267199697AB70ED9',X'79C4BB5ECE13D940550F84317D7C81CA479C75A44EE385128ABFE41EF7D92E3A');
INSERT INTO "journal" VALUES(40,'2026-11-27T13:02:52.834964392Z','service','add export','/instruments','[{"kind":"export","id":1,"after":{"id":1,"path":"/instruments","folderId":2,"rules":[{"id":4,"from":"@dome-hosts"}]}}]',X'79C4BB5ECE13D940550F84317D7C81CA479C75A44EE385128ABFE41EF7D92E3A',X'DF1445318F4387E6CEC45831E5150F0C1FA43B30252014ED0E9D53B1BC1C90FE');
INSERT INTO "journal" VALUES(41,'2026-11-27T13:02:52.838862084Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3,"permissions":"acl","ownership":"mapped"}}]',X'DF1445318F4387E6CEC45831E5150F0C1FA43B30252014ED0E9D53B1BC1C90FE',X'B1EA70F523C32DA52E7824C905D9FCE9074109C1CC9DEEE1FC8E18C025DE04CF');
INSERT INTO "journal" VALUES(42,'2026-11-27T13:02:52.839990766Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'B1EA70F523C32DA52E7824C905D9FCE9074109C1CC9DEEE1FC8E18C025DE04CF',X'A89E2329377D64A7C48EBD0E276D3CA13DE700870644BBFF56580B82B16F0561');
INSERT INTO "journal" VALUES(43,'2026-11-27T13:02:52.842916778Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'A89E2329377D64A7C48EBD0E276D3CA13DE700870644BBFF56580B82B16F0561',X'3E37CC085AFF03DBFB574E3AEAABB812BD86CFFE804B98A128D456B7113CCFFF');
INSERT INTO "journal" VALUES(44,'2026-11-27T13:02:52.844226476Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'3E37CC085AFF03DBFB574E3AEAABB812BD86CFFE804B98A128D456B7113CCFFF',X'06290B64B2D90A16DD6D393E44722D06BAEA7845345B5FF436A6A78B83646DCC');
INSERT INTO "journal" VALUES(45,'2026-11-27T13:02:52.845418024Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'06290B64B2D90A16DD6D393E44722D06BAEA7845345B5FF436A6A78B83646DCC',X'2E1E9388E0EBBA26C6EAD70C85C532BC6EABCC380941B13E3267723164E5CF9C');
INSERT INTO "journal" VALUES(46,'2026-11-27T13:02:52.847149242Z','service','add export','/plates','[{"kind":"export","id":2,"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'2E1E9388E0EBBA26C6EAD70C85C532BC6EABCC380941B13E3267723164E5CF9C',X'F8D46CA742AE5247B23CD2B05F059751D3F3534768E44ED87056B66BD3FCEA10');
INSERT INTO "journal" VALUES(47,'2026-11-27T13:02:52.84855333Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5,"permissions":"acl","ownership":"mapped"}}]',X'F8D46CA742AE5247B23CD2B05F059751D3F3534768E44ED87056B66BD3FCEA10',X'375392B4E922BC5629E88FBD5CD28DCBCF85053D2F22FA011F6B4A79DC4D7AD2');
INSERT INTO "journal" VALUES(48,'2026-11-27T13:02:52.850010282Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'375392B4E922BC5629E88FBD5CD28DCBCF85053D2F22FA011F6B4A79DC4D7AD2',X'2529BFC3B66CA86C0C93A7DDDFC4C3617AA639FA7EA11B141726A258A925E6AD');
INSERT INTO "journal" VALUES(49,'2026-11-27T13:02:52.851396378Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'2529BFC3B66CA86C0C93A7DDDFC4C3617AA639FA7EA11B141726A258A925E6AD',X'130C973C5E9CC2A392718AA0228E35264A3C52B72D0272500808D988B79B6FF5');
INSERT INTO "journal" VALUES(50,'2026-11-27T13:02:52.85269223Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'130C973C5E9CC2A392718AA0228E35264A3C52B72D0272500808D988B79B6FF5',X'99DBE6B3D2F4649A987687C83B8CD347FD9E250A1EB57A9CEBA97DCC2624147E');
INSERT INTO "journal" VALUES(51,'2026-11-27T13:02:52.854279742Z','service','add export','/visitors','[{"kind":"export","id":3,"after":{"id":3,"path":"/visitors","folderId":4,"rules":[{"id":8,"from":"*","write":true,"squash":"none","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'99DBE6B3D2F4649A987687C83B8CD347FD9E250A1EB57A9CEBA97DCC2624147E',X'FAF85A2C4A1D4C1104A77FBFAA38057B70973D8DF808F37B7A1484C0E4F64CD9');
INSERT INTO "journal" VALUES(52,'2026-11-27T13:02:52.855722702Z','service','add folder','scratch','[{"kind":"folder","id":5,"after":{"id":5,"name":"scratch","volumeId":1,"path":"scratch","description":"Room for the reduction hosts; nothing here is kept","owner":11,"group":4,"permissions":"unix","ownership":"mapped"}}]',X'FAF85A2C4A1D4C1104A77FBFAA38057B70973D8DF808F37B7A1484C0E4F64CD9',X'0B317B1AE92F3172B99114D5B8336DC98024C8D22769E1CCDFBEAB1BC2A57E9A');
INSERT INTO "journal" VALUES(53,'2026-11-27T13:02:52.85706584Z','service','set mode','scratch','[]',X'0B317B1AE92F3172B99114D5B8336DC98024C8D22769E1CCDFBEAB1BC2A57E9A',X'789FE3B09CED431D1024F02097A62326D2D98E052C6F97DE15B64BD031F3C9B8');
INSERT INTO "journal" VALUES(54,'2026-11-27T13:02:52.859446893Z','service','add export','/scratch','[{"kind":"export","id":4,"after":{"id":4,"path":"/scratch","folderId":5,"rules":[{"id":9,"from":"@reduction-hosts"},{"id":10,"from":"127.0.0.1","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"number"}]}}]',X'789FE3B09CED431D1024F02097A62326D2D98E052C6F97DE15B64BD031F3C9B8',X'6E3A385B87BF93EBFC74A4DBCFC1CE55539BDE41A78053F0D0430679B94E68EF');
INSERT INTO "journal" VALUES(55,'2026-11-27T13:02:52.861575655Z','service','add folder','personal','[{"kind":"folder","id":6,"after":{"id":6,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4,"permissions":"acl","ownership":"mapped"}}]',X'6E3A385B87BF93EBFC74A4DBCFC1CE55539BDE41A78053F0D0430679B94E68EF',X'F764123A0BDE6C16A3FB963F70ACC399CDDE2941C8AFDF88B4D6371C01BB7D5B');
INSERT INTO "journal" VALUES(56,'2026-11-27T13:02:52.862776125Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'F764123A0BDE6C16A3FB963F70ACC399CDDE2941C8AFDF88B4D6371C01BB7D5B',X'A86BA06D28CB67670C37BC5B0FBC713F10D42D472379FB64943B279993BDC051');
INSERT INTO "journal" VALUES(57,'2026-11-27T13:02:52.866199408Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":6,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'A86BA06D28CB67670C37BC5B0FBC713F10D42D472379FB64943B279993BDC051',X'3D38E9EFF4A49BE9E49352AD6948E9E66CF7C09C2A61FBC36EA1E4E58E13ACB2');
INSERT INTO "journal" VALUES(58,'2026-11-27T13:02:52.867691946Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":6,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'3D38E9EFF4A49BE9E49352AD6948E9E66CF7C09C2A61FBC36EA1E4E58E13ACB2',X'55BC08E55B968238C04E92C20370A64C10435DE90C83474008A446A8ADFFC576');
INSERT INTO "journal" VALUES(59,'2026-11-27T13:02:52.869198856Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":6,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'55BC08E55B968238C04E92C20370A64C10435DE90C83474008A446A8ADFFC576',X'F21CA906E3F421B63443D20E8B1CAC34C2BE24EEB4B0869D27AABCF855B242FC');
INSERT INTO "journal" VALUES(60,'2026-11-27T13:02:52.87079112Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":6,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'F21CA906E3F421B63443D20E8B1CAC34C2BE24EEB4B0869D27AABCF855B242FC',X'C611407D3970FDB05CE5F291F20E2447F8BC978BC291DDFCED0F7D21365839FC');
INSERT INTO "journal" VALUES(61,'2026-11-27T13:02:52.873322518Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":6,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'C611407D3970FDB05CE5F291F20E2447F8BC978BC291DDFCED0F7D21365839FC',X'7D30C5D38974910F5A59A5D54B4D9801A6FBA3CB0E63ECBF5561C3703B2FD0CF');
INSERT INTO "journal" VALUES(62,'2026-11-27T13:02:52.874888345Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":6,"announced":true,"listOnlyOpenable":true}}]',X'7D30C5D38974910F5A59A5D54B4D9801A6FBA3CB0E63ECBF5561C3703B2FD0CF',X'FA0A729D036C6D86814891EBE245CA18D74F99F24DC39667C842950692175EE2');
INSERT INTO "journal" VALUES(63,'2026-11-27T13:02:52.877154402Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'FA0A729D036C6D86814891EBE245CA18D74F99F24DC39667C842950692175EE2',X'A194EFFABDA6E2D54732CC106566DBE7933517F75C82A2B844A135A89A3436F0');
INSERT INTO "journal" VALUES(64,'2026-11-27T13:02:52.878835833Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":6},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'A194EFFABDA6E2D54732CC106566DBE7933517F75C82A2B844A135A89A3436F0',X'72EB287E9639D3A66E4EC7736B51C080B3B3B63405B659E2EA7EE7098FEFD974');
INSERT INTO "journal" VALUES(65,'2026-11-27T13:02:52.880279249Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"},{"id":21,"who":{"kind":1,"id":7},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'72EB287E9639D3A66E4EC7736B51C080B3B3B63405B659E2EA7EE7098FEFD974',X'FD41E3D6906968E91065AAD48695205410B3E57386F670E586D18DDD4A18A8B1');
INSERT INTO "journal" VALUES(66,'2026-11-27T13:02:52.8818252Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":22,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'FD41E3D6906968E91065AAD48695205410B3E57386F670E586D18DDD4A18A8B1',X'BBF5F98178DF2F6668EFBABE735C2259CBAAC47289A119BED8A718CDCFFF317E');
INSERT INTO "journal" VALUES(67,'2026-11-27T13:02:52.883343647Z','service','add entry','personal','[{"kind":"rule","id":7,"before":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]},"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1},{"id":23,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'BBF5F98178DF2F6668EFBABE735C2259CBAAC47289A119BED8A718CDCFFF317E',X'5E49C5B528AAD425C17661E40E627BA3853A5773ACBF0177CA4CB3E6E0CC5BD3');
INSERT INTO "journal" VALUES(68,'2026-11-27T13:02:52.884832418Z','service','remember numbers','dome1','[{"kind":"id list","id":1,"after":{"id":1,"host":"dome1","numbers":[{"name":"svc-dome","number":2101},{"name":"tomasz","number":2004},{"name":"piran","number":2002}]}}]',X'5E49C5B528AAD425C17661E40E627BA3853A5773ACBF0177CA4CB3E6E0CC5BD3',X'98119360F56172B393D3B78176373173FF819606ED8FDFBABAAFED8EEDD14CB4');
INSERT INTO "journal" VALUES(69,'2026-11-27T13:02:52.886448509Z','service','give to bettany and group archive','personal/bettany/plate-index.dat','[]',X'98119360F56172B393D3B78176373173FF819606ED8FDFBABAAFED8EEDD14CB4',X'CA7A1BB119BF48B4DBA7914F9D5EAD30EB2F1909D6462BED910B7DE3D3A6FD3E');
INSERT INTO "journal" VALUES(70,'2026-11-27T13:02:52.887905479Z','service','give to piran and group observers','personal/piran/allsky-2026-03.dat','[]',X'CA7A1BB119BF48B4DBA7914F9D5EAD30EB2F1909D6462BED910B7DE3D3A6FD3E',X'D016395E28C0648B8596312EC691EEA29F3BE383E10ED64D693208D71802F8E1');
INSERT INTO "journal" VALUES(71,'2026-11-27T13:02:52.916036871Z','service','give to isolde and group observers','personal/isolde/spectra.dat','[]',X'D016395E28C0648B8596312EC691EEA29F3BE383E10ED64D693208D71802F8E1',X'E5F0204778B020DF12A13D519B1DA4EDB7869A980EE8B2C8339E0C324EE4D88F');
INSERT INTO "journal" VALUES(72,'2026-11-27T13:02:52.919116093Z','service','give to tomasz and group engineers','personal/tomasz/bench.dat','[]',X'E5F0204778B020DF12A13D519B1DA4EDB7869A980EE8B2C8339E0C324EE4D88F',X'491F5AE3BF0C167B6BDBEB9D936B057569384675904C171C5C1158E53F5424BA');
INSERT INTO "journal" VALUES(73,'2026-11-27T13:02:52.92124324Z','service','give to orla and group visitors','visitors/orla-field.dat','[]',X'491F5AE3BF0C167B6BDBEB9D936B057569384675904C171C5C1158E53F5424BA',X'F9B3540083407A4E53355CA7E2F032F29FECDACD98A5F273E71EAF94008AA0B9');
INSERT INTO "journal" VALUES(74,'2026-11-27T13:02:52.925040923Z','service','give to svc-reduce and group staff','scratch/2026-03/stack.dat','[]',X'F9B3540083407A4E53355CA7E2F032F29FECDACD98A5F273E71EAF94008AA0B9',X'2C38E532D8F64D146FD1999145F5D55921E6E583F513B0F95721FD5C5107D8CD');
INSERT INTO "journal" VALUES(75,'2026-11-27T13:02:52.92861722Z','service','set limit','user bettany','[{"kind":"limit","id":1,"after":{"id":1,"kind":"user","user":7,"hardBytes":5000000,"graceSeconds":604800}}]',X'2C38E532D8F64D146FD1999145F5D55921E6E583F513B0F95721FD5C5107D8CD',X'09BA8ABE7F7868AB9ED6E37EAECF1A328E895236AB4C93133627723557ADE41D');
INSERT INTO "journal" VALUES(76,'2026-11-27T13:02:52.930936159Z','service','set limit','user piran','[{"kind":"limit","id":2,"after":{"id":2,"kind":"user","user":5,"softBytes":2000000,"hardBytes":4000000,"graceSeconds":604800}}]',X'09BA8ABE7F7868AB9ED6E37EAECF1A328E895236AB4C93133627723557ADE41D',X'EBFEF17D2C1643396E4800604A968E1E7709CA4C3F29070AB14B45E14D7AD880');
INSERT INTO "journal" VALUES(77,'2026-11-27T13:02:52.9351425Z','service','set limit','user svc-reduce in scratch','[{"kind":"limit","id":3,"after":{"id":3,"kind":"user","user":11,"folderId":5,"hardBytes":1000000,"graceSeconds":604800}}]',X'EBFEF17D2C1643396E4800604A968E1E7709CA4C3F29070AB14B45E14D7AD880',X'4F029E065D3488243D7D6CFFBDAD1556AF3D33F0DB2C5AB4FED0C5FB59F8BD2D');
INSERT INTO "journal" VALUES(78,'2026-11-27T13:02:52.941122655Z','service','set limit','default of visitors in visitors','[{"kind":"limit","id":4,"after":{"id":4,"kind":"default","group":5,"folderId":4,"hardBytes":500000,"graceSeconds":604800}}]',X'4F029E065D3488243D7D6CFFBDAD1556AF3D33F0DB2C5AB4FED0C5FB59F8BD2D',X'90BCF7B0C3EA7879D6E759A6CAF5072A28E60E06D4A9CB5E190337F3B73FD066');
INSERT INTO "journal" VALUES(79,'2026-11-27T13:02:52.942852457Z','service','set limit','folder nightlog','[{"kind":"limit","id":5,"after":{"id":5,"kind":"folder","folderId":1,"softBytes":2500000,"hardBytes":3000000,"graceSeconds":259200}}]',X'90BCF7B0C3EA7879D6E759A6CAF5072A28E60E06D4A9CB5E190337F3B73FD066',X'90AED89108C305CCADC96DBA838873ABB52F15D426C3B6ABDB5D4ADC2BDFC5F5');
INSERT INTO "journal" VALUES(80,'2026-11-27T13:02:52.946892663Z','service','set limit','folder plates','[{"kind":"limit","id":6,"after":{"id":6,"kind":"folder","folderId":3,"hardBytes":20000000,"graceSeconds":604800}}]',X'90AED89108C305CCADC96DBA838873ABB52F15D426C3B6ABDB5D4ADC2BDFC5F5',X'CC333E2C9CF9B81FEF779089369E9C83615525DA3DDC9B43EDD2E875AAFD3056');
INSERT INTO "journal" VALUES(81,'2026-11-27T13:02:52.949520318Z','service','set limit','folder plates/2026','[{"kind":"limit","id":7,"after":{"id":7,"kind":"folder","folderId":3,"path":"2026","hardBytes":10000000,"hardFiles":2000,"graceSeconds":604800}}]',X'CC333E2C9CF9B81FEF779089369E9C83615525DA3DDC9B43EDD2E875AAFD3056',X'2928ED99408AB6B08C55BC4498FBA7715E3BD283A106B618E4692CB250F2716F');
INSERT INTO "journal" VALUES(82,'2026-11-27T13:02:52.951810281Z','service','switch service on','nfs','[{"kind":"services","id":1,"before":{"smb":true,"nfs":false},"after":{"smb":true,"nfs":true}}]',X'2928ED99408AB6B08C55BC4498FBA7715E3BD283A106B618E4692CB250F2716F',X'E7B339CC6536D925E6FF33D32538D9E6D40BB309DCD4C783065F37825B369FD9');
INSERT INTO "journal" VALUES(83,'2026-11-27T13:02:52.961987298Z','service','change notices','notices','[{"kind":"notices","id":1,"after":{"percent":null,"mail":{"server":"127.0.0.1:46559","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvojfxnCTMwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcxMjAyNTJaFw0zNjExMjcxMzAyNTJa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAATdeiCo0xdKoQ3dtJ2EFrE/6fp/0r4+izgjLyJMmG18P0tWO/2EeHhz\nn/lq6RieayY6H84R9vLVSbmIeM0hIe50o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUP75EbBiOFAmBaMfeuH8MUf7w3wUwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIFyvtHZj66cATTLDR5H1aP3wAeOFvwwELSbrf9mkxFL1AiBE\nh7Kwfl3N5G3PcIkWoJqgSABR8gQEwtaNMMXghio7Ig==\n-----END CERTIFICATE-----\n"}}}]',X'E7B339CC6536D925E6FF33D32538D9E6D40BB309DCD4C783065F37825B369FD9',X'C7D23366A28424610C1ACE15D9CE7FB5D3C87F7E32606D66DACF14FB709C0D8E');
INSERT INTO "journal" VALUES(84,'2026-11-27T13:02:53.029498Z','service','tell','bettany: 4.7 MB in use, 90 % or more of the hard limit of 5 MB.','[]',X'C7D23366A28424610C1ACE15D9CE7FB5D3C87F7E32606D66DACF14FB709C0D8E',X'0B49208016777678EE6F2CD2748B0D72E11340E7F7A16A89C2D21354170562F7');
INSERT INTO "journal" VALUES(85,'2026-11-27T13:02:53.029622658Z','service','tell','piran: 2.3 MB in use, more than the soft limit of 2 MB; nothing can grow from 4 December 2026, 13:02 UTC on, unless there is less by then.','[]',X'0B49208016777678EE6F2CD2748B0D72E11340E7F7A16A89C2D21354170562F7',X'F3C08DB6683B96F5A88A4E84F24B1028C2439B192ED50DDFEF7398CDDCDC9721');
INSERT INTO "journal" VALUES(86,'2026-11-27T13:02:53.029692426Z','service','tell','svc-reduce: 1 MB in use, which is all of the hard limit of 1 MB; nothing can grow. The limit is that of user svc-reduce in scratch.','[]',X'F3C08DB6683B96F5A88A4E84F24B1028C2439B192ED50DDFEF7398CDDCDC9721',X'D61C9B3C725494E11C40EB7F8724FDA9E2B91C74FD33B7CF86E84B69D8B1AAF6');
INSERT INTO "journal" VALUES(87,'2026-11-27T13:02:58.213942719Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'D61C9B3C725494E11C40EB7F8724FDA9E2B91C74FD33B7CF86E84B69D8B1AAF6',X'11BF1A4F3A89420E9E31DA1C69302C9BC5F764A61D1ADAA5EB3BB9F33C67B1E1');
INSERT INTO "journal" VALUES(88,'2026-11-27T13:02:58.235570602Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":24,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'11BF1A4F3A89420E9E31DA1C69302C9BC5F764A61D1ADAA5EB3BB9F33C67B1E1',X'A7A2816DB8D0F6DBF8484B03FF0EF51D4701A3C7D2E29F6EAB12A85C2D7FDE3F');
INSERT INTO "journal" VALUES(89,'2026-11-27T13:02:58.258822489Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'A7A2816DB8D0F6DBF8484B03FF0EF51D4701A3C7D2E29F6EAB12A85C2D7FDE3F',X'3D2674A4CFDC41926A65E4D1BD9EFA31B3485121A7C334FE658164A9C87CAEEE');
INSERT INTO "journal" VALUES(90,'2026-11-27T13:02:58.28109745Z','keeper','add client rule','/plates','[{"kind":"export","id":2,"before":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]},"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":11,"from":"192.0.2.99","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'3D2674A4CFDC41926A65E4D1BD9EFA31B3485121A7C334FE658164A9C87CAEEE',X'44DFBF40E0860B375B0460C4F4463393809746740DDBC57CB08A79059D7D83A6');
INSERT INTO "journal" VALUES(91,'2026-11-27T13:02:58.307480333Z','keeper','set limit','user wren','[{"kind":"limit","id":8,"after":{"id":8,"kind":"user","user":3,"hardBytes":2000000000,"graceSeconds":604800}}]',X'44DFBF40E0860B375B0460C4F4463393809746740DDBC57CB08A79059D7D83A6',X'878E67A20764E670D2B6F476E9BF328E05DD57F2901AA2AA35B8659ABD03C6C8');
INSERT INTO "journal" VALUES(92,'2026-11-27T13:02:58.322504323Z','keeper','change notices','notices','[{"kind":"notices","id":1,"before":{"percent":null,"mail":{"server":"127.0.0.1:46559","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvojfxnCTMwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcxMjAyNTJaFw0zNjExMjcxMzAyNTJa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAATdeiCo0xdKoQ3dtJ2EFrE/6fp/0r4+izgjLyJMmG18P0tWO/2EeHhz\nn/lq6RieayY6H84R9vLVSbmIeM0hIe50o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUP75EbBiOFAmBaMfeuH8MUf7w3wUwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIFyvtHZj66cATTLDR5H1aP3wAeOFvwwELSbrf9mkxFL1AiBE\nh7Kwfl3N5G3PcIkWoJqgSABR8gQEwtaNMMXghio7Ig==\n-----END CERTIFICATE-----\n"}},"after":{"percent":[75,100],"mail":{"server":"127.0.0.1:46559","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvojfxnCTMwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcxMjAyNTJaFw0zNjExMjcxMzAyNTJa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAATdeiCo0xdKoQ3dtJ2EFrE/6fp/0r4+izgjLyJMmG18P0tWO/2EeHhz\nn/lq6RieayY6H84R9vLVSbmIeM0hIe50o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUP75EbBiOFAmBaMfeuH8MUf7w3wUwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIFyvtHZj66cATTLDR5H1aP3wAeOFvwwELSbrf9mkxFL1AiBE\nh7Kwfl3N5G3PcIkWoJqgSABR8gQEwtaNMMXghio7Ig==\n-----END CERTIFICATE-----\n"}}}]',X'878E67A20764E670D2B6F476E9BF328E05DD57F2901AA2AA35B8659ABD03C6C8',X'BAF8590E5A40374D7AAA363E2580019554A67499E004CF3F58A392FFC9636E8A');
INSERT INTO "journal" VALUES(93,'2026-11-27T13:02:58.337463475Z','keeper','add webhook','ops','[{"kind":"hook","id":1,"after":{"id":1,"name":"ops","site":"https://alerts.larkfell.example"}}]',X'BAF8590E5A40374D7AAA363E2580019554A67499E004CF3F58A392FFC9636E8A',X'C427D8D9E320ECC9E55980A5C9B29D1A0E6A416556324DE53C03AC5B9ABD5C57');
CREATE TABLE limits (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    kind          TEXT NOT NULL CHECK (kind IN ('user', 'group', 'folder', 'default')),
    user_id       INTEGER REFERENCES users (id) ON DELETE CASCADE,
    group_id      INTEGER REFERENCES groups (id) ON DELETE CASCADE,
    volume_id     INTEGER REFERENCES volumes (id) ON DELETE CASCADE,
    folder_id     INTEGER REFERENCES folders (id) ON DELETE CASCADE,
    path          TEXT NOT NULL DEFAULT '',      -- below the folder
    soft_bytes    INTEGER CHECK (soft_bytes >= 0),
    hard_bytes    INTEGER CHECK (hard_bytes >= 0),
    soft_files    INTEGER CHECK (soft_files >= 0),
    hard_files    INTEGER CHECK (hard_files >= 0),
    grace_seconds INTEGER NOT NULL CHECK (grace_seconds >= 0)
) STRICT;
INSERT INTO "limits" VALUES(1,'user',7,NULL,NULL,NULL,'',NULL,5000000,NULL,NULL,604800);
INSERT INTO "limits" VALUES(2,'user',5,NULL,NULL,NULL,'',2000000,4000000,NULL,NULL,604800);
INSERT INTO "limits" VALUES(3,'user',11,NULL,NULL,5,'',NULL,1000000,NULL,NULL,604800);
INSERT INTO "limits" VALUES(4,'default',NULL,5,NULL,4,'',NULL,500000,NULL,NULL,604800);
INSERT INTO "limits" VALUES(5,'folder',NULL,NULL,NULL,1,'',2500000,3000000,NULL,NULL,259200);
INSERT INTO "limits" VALUES(6,'folder',NULL,NULL,NULL,3,'',NULL,20000000,NULL,NULL,604800);
INSERT INTO "limits" VALUES(7,'folder',NULL,NULL,NULL,3,'2026',NULL,10000000,NULL,2000,604800);
INSERT INTO "limits" VALUES(8,'user',3,NULL,NULL,NULL,'',NULL,2000000000,NULL,NULL,604800);
CREATE TABLE members (
    group_id     INTEGER NOT NULL REFERENCES groups (id) ON DELETE CASCADE,
    user_id      INTEGER REFERENCES users (id) ON DELETE CASCADE,
    member_group INTEGER REFERENCES groups (id) ON DELETE CASCADE,
    CHECK ((user_id IS NULL) <> (member_group IS NULL)),
    UNIQUE (group_id, user_id),
    UNIQUE (group_id, member_group)
) STRICT;
INSERT INTO "members" VALUES(3,10,NULL);
INSERT INTO "members" VALUES(4,NULL,1);
INSERT INTO "members" VALUES(4,NULL,2);
INSERT INTO "members" VALUES(4,NULL,3);
INSERT INTO "members" VALUES(4,3,NULL);
INSERT INTO "members" VALUES(1,12,NULL);
CREATE TABLE moves (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    folder_id INTEGER NOT NULL REFERENCES folders (id) ON DELETE CASCADE,
    from_path TEXT NOT NULL,
    to_path   TEXT NOT NULL
) STRICT;
CREATE TABLE nfs_clients (
    kind  TEXT NOT NULL,                           -- v4: a client owner; nlm: a host that held locks
    owner BLOB NOT NULL,
    PRIMARY KEY (kind, owner)
) STRICT;
CREATE TABLE notices (
    id            INTEGER PRIMARY KEY CHECK (id = 1),
    record        TEXT NOT NULL,                 -- JSON
    mail_password BLOB                           -- sealed with the key file
) STRICT;
INSERT INTO "notices" VALUES(1,'{"percent":[75,100],"mail":{"server":"127.0.0.1:46559","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvojfxnCTMwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcxMjAyNTJaFw0zNjExMjcxMzAyNTJa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAATdeiCo0xdKoQ3dtJ2EFrE/6fp/0r4+izgjLyJMmG18P0tWO/2EeHhz\nn/lq6RieayY6H84R9vLVSbmIeM0hIe50o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUP75EbBiOFAmBaMfeuH8MUf7w3wUwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIFyvtHZj66cATTLDR5H1aP3wAeOFvwwELSbrf9mkxFL1AiBE\nh7Kwfl3N5G3PcIkWoJqgSABR8gQEwtaNMMXghio7Ig==\n-----END CERTIFICATE-----\n"}}',NULL);
CREATE TABLE places (
    id        INTEGER PRIMARY KEY AUTOINCREMENT,
    folder_id INTEGER NOT NULL REFERENCES folders (id) ON DELETE CASCADE,
    parent_id INTEGER REFERENCES places (id) ON DELETE CASCADE,
    name      TEXT NOT NULL,                     -- '' for the folder itself
    cut       INTEGER NOT NULL DEFAULT 0,        -- inherits nothing from above
    UNIQUE (parent_id, name)
) STRICT;
INSERT INTO "places" VALUES(1,1,NULL,'',0);
INSERT INTO "places" VALUES(2,2,NULL,'',0);
INSERT INTO "places" VALUES(3,2,2,'firmware',1);
INSERT INTO "places" VALUES(4,2,3,'bench',1);
INSERT INTO "places" VALUES(5,3,NULL,'',0);
INSERT INTO "places" VALUES(6,4,NULL,'',0);
INSERT INTO "places" VALUES(7,6,NULL,'',0);
INSERT INTO "places" VALUES(8,6,7,'bettany',0);
INSERT INTO "places" VALUES(9,6,7,'isolde',0);
INSERT INTO "places" VALUES(10,6,7,'piran',0);
INSERT INTO "places" VALUES(11,6,7,'tomasz',0);
INSERT INTO "places" VALUES(12,6,7,'wren',0);
INSERT INTO "places" VALUES(13,1,1,'2026',0);
CREATE TABLE probe (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, room BLOB NOT NULL) STRICT;
CREATE TABLE reviews (
    id     INTEGER PRIMARY KEY AUTOINCREMENT,
    name   TEXT NOT NULL UNIQUE COLLATE NOCASE,
    record TEXT NOT NULL
) STRICT;
CREATE TABLE services (
    protocol TEXT PRIMARY KEY CHECK (protocol IN ('smb', 'nfs')),
    is_on    INTEGER NOT NULL
) STRICT;
INSERT INTO "services" VALUES('smb',1);
INSERT INTO "services" VALUES('nfs',1);
CREATE TABLE sessions (
    token_hash BLOB PRIMARY KEY,                 -- SHA-256 of the token
    user_id    INTEGER NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    created    TEXT NOT NULL,
    expires    TEXT NOT NULL
) STRICT;
INSERT INTO "sessions" VALUES(X'0A67D1A2AEB034402F98338C4EDB4705FF5A8290D0FB7647AC1D369ABF7162CB',1,'2026-11-27T13:02:58Z','2026-11-28T01:02:58Z');
CREATE TABLE shares (
    id                 INTEGER PRIMARY KEY AUTOINCREMENT,
    name               TEXT NOT NULL UNIQUE COLLATE NOCASE,
    folder_id          INTEGER NOT NULL REFERENCES folders (id) ON DELETE CASCADE,
    description        TEXT NOT NULL DEFAULT '',
    announced          INTEGER NOT NULL DEFAULT 1,
    read_only          INTEGER NOT NULL DEFAULT 0,
    list_only_openable INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO "shares" VALUES(1,'nightlog',1,'',1,0,0);
INSERT INTO "shares" VALUES(2,'instruments',2,'',1,0,0);
INSERT INTO "shares" VALUES(3,'plates',3,'Raw plates',1,0,0);
INSERT INTO "shares" VALUES(4,'visitors',4,'',1,1,0);
INSERT INTO "shares" VALUES(5,'personal',6,'',1,0,1);
CREATE TABLE states (
    seq     INTEGER PRIMARY KEY,
    hash    BLOB NOT NULL,                       -- that row's
    records TEXT NOT NULL                        -- JSON: kind, id and after of each record
) STRICT;
CREATE TABLE users (
    id            INTEGER PRIMARY KEY AUTOINCREMENT,
    name          TEXT NOT NULL UNIQUE COLLATE NOCASE,
    full_name     TEXT NOT NULL DEFAULT '',
    uid           INTEGER NOT NULL UNIQUE CHECK (uid BETWEEN 0 AND 4294967294),
    primary_group INTEGER REFERENCES groups (id),
    role          TEXT NOT NULL DEFAULT '' CHECK (role IN ('', 'administrator', 'auditor')),
    service       INTEGER NOT NULL DEFAULT 0,
    disabled      INTEGER NOT NULL DEFAULT 0,
    expires       TEXT,                          -- RFC 3339, UTC; NULL is never
    smb           INTEGER NOT NULL DEFAULT 1,
    nfs           INTEGER NOT NULL DEFAULT 1,
    password_hash TEXT,                          -- argon2id, for the console and the API
    nt_sealed     BLOB                           -- NT hash for NTLMv2, sealed with the key file
, mail TEXT NOT NULL DEFAULT '') STRICT;
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$YPV77BXBVE06mC7rtoYMWQ$AjDZUphwW4Qrx67OUF7ueoTKc7DydJ4efAFBAuBU/oU',X'9B1748E0F7C0AF1147E1B551B4D787ADB6FBA113DD444D67CCCCC81B788E563E2651272516545F2C45CF0460','keeper@larkfell.example');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$i1E/EKQVl2G/IRj6e2rg3g$8A/aDLT/U6nlspUYOqaWMRcIHmXQLuXDBZo7rGJ4yms',X'A506D9A32935EDAF81CB93FC343DA00B15A9FF1C2F932EB42B89F0559675B14D240D34C95B1826730EC9AA8C','');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$M9kIGiNVQzohnQGa35ZW5Q$pYhhEuQose3W/q3wTKaJvPDRPtJHa2mCNkLWtjGtz00',X'D350CB195419B9EC17783BCCD49E5A980657E891A048EB401D19D0D16D556F585447F393B18F6E202A4CE49C','wren@larkfell.example');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$Opho9cLJpAZqKHIbEv6zCw$LKWXF4R6mAcLDiwAPV0W7g71SzYdyT/eDbDOf7wutXo',X'A3FB404F5FE10EC50E10FD7460D8EA22991CC5FB06086576EA80D1BE1AFCAC8D74A74B505D8F71A0ED24A38F','isolde@larkfell.example');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$0skZma3UsdDQT8NtL2jczg$KdhLptG/DowntpNQHX457wuHJYSCpFXCkitHxKV0zdA',X'00A0A93D743031410605E15EAA13B952856A6F7DD5BB708B146A2B48D62AC0B20B10DA6F3AB00A2F2C428574','piran@larkfell.example');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$E2wEe8g8e5XU1k/bE94AHQ$wjPAFyKzJgDXilS4MYN3Lnx9M2gOhZpVsSAMYniuqKA',X'E1323F63C713EDD117CEC4224C031D784AADA13D8D14744301501B952655B993977B0BF0CB20B1C040DB7B3E','tomasz@larkfell.example');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$Xbr44J1A4WQ1HMXUJW83Ig$E6VShgVW2yrYtTnbCzeavn5fN8ssprfI3VZrpVh99K0',X'37130AAFAE454B6D930EAE14D6778EF1DA326084E5297EC5E117D65BEFBEFECC5D5A8FD287CC5CE4D07C9638','bettany@larkfell.example');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$OvhKNZJB6Gp5nYgcneYJLw$VEShV4+ykdgKAmwSd+AF3XjQFW4GDbkPm/7yXWJwHlU',X'57F7F45E29B0B0F69D6C44F5536F7E8400881649638A2D8C330CB44C8982129DDFB950F3BB4922FCD0A4E954','orla@larkfell.example');
INSERT INTO "users" VALUES(9,'corin','Corin Vale (left in spring)',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$UVHDDRGslYmkyE2YnYcarA$pGLpWnrjfbGXNYOHFFGfa0Faj8kTVXv6vbGsAgFjq0g',X'F281E2BFBB6CCCE9189A05A12325E5CB9B86210768E4EB47DFB79FE19F4189E14C59F552832947645BFD4FA0','');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,3,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$Q3ZxpUjobaMtatRxtLJjng$lwUzD4fdzBUK05Zrx1t6WQ7yKIdVTTXEImpMRaexRGo',X'DC8853167661784DAB804F78B80E1158ED7E9C087321C169AEB74A44A75B0E8EDEF9B557E647EF3017B8E6CD','');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,1,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$CFFvxw06N6Qcrx53+tAaug$EG16F4SwGmCPqnnPOXHhVxpQFK/vnCio5T8fwSJm3YA',X'FF7625CC08BE81D4B81FDDD29A9EAC11077580B926B908EE04FEAA167A74A870620CAA40DB189702A90D3C9B','');
INSERT INTO "users" VALUES(12,'lunt','Lunt Harrow',2103,NULL,'',0,0,NULL,1,1,NULL,NULL,'');
CREATE TABLE volumes (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    path TEXT NOT NULL UNIQUE
, counting TEXT NOT NULL DEFAULT 'off' CHECK (counting IN ('off', 'size', 'allocated')), mark TEXT NOT NULL DEFAULT '') STRICT;
INSERT INTO "volumes" VALUES(1,'summit','/srv/larkfell/state/volumes/summit','size','18d9fc1da2d3beae1ea251b1919082f1');
CREATE TABLE work (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    kind  TEXT NOT NULL,
    args  TEXT NOT NULL,                         -- JSON
    actor TEXT NOT NULL
) STRICT;
CREATE UNIQUE INDEX places_root ON places (folder_id) WHERE parent_id IS NULL;
CREATE INDEX client_rules_export ON client_rules (export_id);
CREATE INDEX client_rules_set ON client_rules (set_id);
CREATE INDEX entries_place ON entries (place_id);
CREATE INDEX entries_share ON entries (share_id);
CREATE UNIQUE INDEX limits_subject ON limits (kind, ifnull(user_id, 0), ifnull(group_id, 0), ifnull(volume_id, 0), ifnull(folder_id, 0), path);
CREATE INDEX journal_at ON journal (at);
CREATE INDEX journal_actor ON journal (actor COLLATE NOCASE, seq);
CREATE INDEX journal_subject ON journal (subject, seq);
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',9);
INSERT INTO "sqlite_sequence" VALUES('entries',24);
INSERT INTO "sqlite_sequence" VALUES('groups',5);
INSERT INTO "sqlite_sequence" VALUES('users',12);
INSERT INTO "sqlite_sequence" VALUES('volumes',1);
INSERT INTO "sqlite_sequence" VALUES('host_sets',2);
INSERT INTO "sqlite_sequence" VALUES('client_rules',11);
INSERT INTO "sqlite_sequence" VALUES('folders',6);
INSERT INTO "sqlite_sequence" VALUES('places',13);
INSERT INTO "sqlite_sequence" VALUES('shares',5);
INSERT INTO "sqlite_sequence" VALUES('exports',4);
INSERT INTO "sqlite_sequence" VALUES('id_lists',1);
INSERT INTO "sqlite_sequence" VALUES('limits',8);
INSERT INTO "sqlite_sequence" VALUES('hooks',1);
COMMIT;
