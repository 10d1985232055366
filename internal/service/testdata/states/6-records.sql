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
INSERT INTO "client_rules" VALUES(11,2,NULL,4,'192.0.2.99',NULL,1,'root',65534,65534,'sys',0,'refused');
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
INSERT INTO "entries" VALUES(25,1,NULL,0,NULL,8,NULL,2,0,7,NULL,'for the spring run');
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
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 10:25:14');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 10:25:14');
INSERT INTO "goose_db_version" VALUES(3,2,1,'2026-11-27 10:25:14');
INSERT INTO "goose_db_version" VALUES(4,3,1,'2026-11-27 10:25:14');
INSERT INTO "goose_db_version" VALUES(5,4,1,'2026-11-27 10:25:14');
INSERT INTO "goose_db_version" VALUES(6,5,1,'2026-11-27 10:25:14');
INSERT INTO "goose_db_version" VALUES(7,6,1,'2026-11-27 10:25:14');
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
INSERT INTO "journal" VALUES(1,'2026-11-27T10:25:14.064429779Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'F61500DF741D830B52A9CBF8BA1CAFFD10DE6DFBFF971DCFD8D10C974D8B3EB9');
INSERT INTO "journal" VALUES(2,'2026-11-27T10:25:14.069006139Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'F61500DF741D830B52A9CBF8BA1CAFFD10DE6DFBFF971DCFD8D10C974D8B3EB9',X'B53573208EBF2572B61EE98281036644611A59FC03C8F1F74EF882AAB33DD5A9');
INSERT INTO "journal" VALUES(3,'2026-11-27T10:25:14.069963588Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'B53573208EBF2572B61EE98281036644611A59FC03C8F1F74EF882AAB33DD5A9',X'BF1096988B393390AA5DB594081A65BFA9D129B565C0564EF9BC5B16B996D5E7');
INSERT INTO "journal" VALUES(4,'2026-11-27T10:25:14.070765612Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'BF1096988B393390AA5DB594081A65BFA9D129B565C0564EF9BC5B16B996D5E7',X'3A815C5CACAEED62CBC4B976A396875AB127CB1180E27C2B8466F86455E88472');
INSERT INTO "journal" VALUES(5,'2026-11-27T10:25:14.071530833Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'3A815C5CACAEED62CBC4B976A396875AB127CB1180E27C2B8466F86455E88472',X'50106094A1E56904E2F10D8D9F8BC259D7FF1AAE3F439773247D7F8734EDF407');
INSERT INTO "journal" VALUES(6,'2026-11-27T10:25:14.072297177Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'50106094A1E56904E2F10D8D9F8BC259D7FF1AAE3F439773247D7F8734EDF407',X'07B300B4927EED825C0F3F7F91475F1391EA766B1317007FBCEEB2D99F3FCA8E');
INSERT INTO "journal" VALUES(7,'2026-11-27T10:25:14.129956916Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900,"mail":"keeper@larkfell.example"}}]',X'07B300B4927EED825C0F3F7F91475F1391EA766B1317007FBCEEB2D99F3FCA8E',X'15968B7C345903DCC8D96C19C66BC39D48E991BB74B1DE2687792662B5020DE7');
INSERT INTO "journal" VALUES(8,'2026-11-27T10:25:14.185193859Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'15968B7C345903DCC8D96C19C66BC39D48E991BB74B1DE2687792662B5020DE7',X'49A7DB166AD61B13B84F8E5340E32B807997FE7DC9D91AD21A92000A4CDF0930');
INSERT INTO "journal" VALUES(9,'2026-11-27T10:25:14.241122254Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true,"mail":"wren@larkfell.example"}}]',X'49A7DB166AD61B13B84F8E5340E32B807997FE7DC9D91AD21A92000A4CDF0930',X'4FF22775F2CE85B93A1A438AC41D39996C2158E774ABA6EC4553D486BB2BEAC3');
INSERT INTO "journal" VALUES(10,'2026-11-27T10:25:14.28050093Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true,"mail":"isolde@larkfell.example"}}]',X'4FF22775F2CE85B93A1A438AC41D39996C2158E774ABA6EC4553D486BB2BEAC3',X'B62268EDD17CF4D9793444CFC97A47E9785370B5FAC45E41045B845A1C285A01');
INSERT INTO "journal" VALUES(11,'2026-11-27T10:25:14.317614461Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true,"mail":"piran@larkfell.example"}}]',X'B62268EDD17CF4D9793444CFC97A47E9785370B5FAC45E41045B845A1C285A01',X'69F8605E5E9B62251991E1ADC384417075F586E0280F262705FDA8FBDB23443F');
INSERT INTO "journal" VALUES(12,'2026-11-27T10:25:14.357519953Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true,"mail":"tomasz@larkfell.example"}}]',X'69F8605E5E9B62251991E1ADC384417075F586E0280F262705FDA8FBDB23443F',X'1A98C8D9428BD0F31703966CAE2F9CB8DC9E8C48055C275413F1847DE522ADA4');
INSERT INTO "journal" VALUES(13,'2026-11-27T10:25:14.396751836Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true,"mail":"bettany@larkfell.example"}}]',X'1A98C8D9428BD0F31703966CAE2F9CB8DC9E8C48055C275413F1847DE522ADA4',X'14C2E97099FC9471B485DF30B4C56EE4786029CA17742A955D9CE6744029BFFC');
INSERT INTO "journal" VALUES(14,'2026-11-27T10:25:14.435573798Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true,"mail":"orla@larkfell.example"}}]',X'14C2E97099FC9471B485DF30B4C56EE4786029CA17742A955D9CE6744029BFFC',X'E1323390612340DABE2D9EDEE63E0FBF03BA4E96588A7E49A10284CA0DBC011A');
INSERT INTO "journal" VALUES(15,'2026-11-27T10:25:14.473381238Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'E1323390612340DABE2D9EDEE63E0FBF03BA4E96588A7E49A10284CA0DBC011A',X'120F23EC5DE3C0B314FED2D3E4989085A693180744995FC186B7031D73897D34');
INSERT INTO "journal" VALUES(16,'2026-11-27T10:25:14.474500243Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'120F23EC5DE3C0B314FED2D3E4989085A693180744995FC186B7031D73897D34',X'DA58C9759DD627DF9878E292A22D03D6B9A3AC262B1B450583A3B72E2AC68536');
INSERT INTO "journal" VALUES(17,'2026-11-27T10:25:14.513411794Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"primary":3,"service":true,"nfs":true}}]',X'DA58C9759DD627DF9878E292A22D03D6B9A3AC262B1B450583A3B72E2AC68536',X'C33067FE4752C1687A67786514B3BED488445F0F36EAC9109B68BCB5A3941941');
INSERT INTO "journal" VALUES(18,'2026-11-27T10:25:14.551201578Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"primary":1,"service":true,"nfs":true}}]',X'C33067FE4752C1687A67786514B3BED488445F0F36EAC9109B68BCB5A3941941',X'D8E769B0101AA4BDE158EE175E39209D51102DE69B3F1618693CE5376D2422B3');
INSERT INTO "journal" VALUES(19,'2026-11-27T10:25:14.552259829Z','service','add member svc-dome','archive','[{"kind":"group","id":3,"before":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"},"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive","members":[{"kind":1,"id":10}]}}]',X'D8E769B0101AA4BDE158EE175E39209D51102DE69B3F1618693CE5376D2422B3',X'7171658F59789F1F70E44BCCCC122F5B24D2FC26E84B8B8C0C07D8BCBAAD0A54');
INSERT INTO "journal" VALUES(20,'2026-11-27T10:25:14.553103949Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'7171658F59789F1F70E44BCCCC122F5B24D2FC26E84B8B8C0C07D8BCBAAD0A54',X'8B2B119E27479D946FC0DC20082159DDC46DC5FAF5D8D4F9EC61116BAE3AB6CC');
INSERT INTO "journal" VALUES(21,'2026-11-27T10:25:14.553883955Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'8B2B119E27479D946FC0DC20082159DDC46DC5FAF5D8D4F9EC61116BAE3AB6CC',X'41EF916CBBEA7F9CA1FABA71B44B410E0CB0E3D1A5D43A493F9D1A3C7A2F879F');
INSERT INTO "journal" VALUES(22,'2026-11-27T10:25:14.554667455Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'41EF916CBBEA7F9CA1FABA71B44B410E0CB0E3D1A5D43A493F9D1A3C7A2F879F',X'5DAF12729F6015B979E244C96748946D7675F79EE6A3F2D02143CC73D59A5959');
INSERT INTO "journal" VALUES(23,'2026-11-27T10:25:14.555447945Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'5DAF12729F6015B979E244C96748946D7675F79EE6A3F2D02143CC73D59A5959',X'0F063A482DEC4990F6AACB61D7D9BBA38ED17B983236DA5308EF7CD062C0B292');
INSERT INTO "journal" VALUES(24,'2026-11-27T10:25:14.5577754Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit","counting":"size"}}]',X'0F063A482DEC4990F6AACB61D7D9BBA38ED17B983236DA5308EF7CD062C0B292',X'FAB332DB7F75A80878B7E9D76E41715FA93C9966862F37102855653BABE34CB7');
INSERT INTO "journal" VALUES(25,'2026-11-27T10:25:14.55910989Z','service','add host set','dome-hosts','[{"kind":"host set","id":1,"after":{"id":1,"name":"dome-hosts","description":"Dome control, on the mountain''s own network","rules":[{"id":1,"from":"192.0.2.16/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":2,"from":"dome*.larkfell.example","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'FAB332DB7F75A80878B7E9D76E41715FA93C9966862F37102855653BABE34CB7',X'617DC92D14B1D5BC396BAB0307046014BB8E5F443462BC85719B69ED967428B3');
INSERT INTO "journal" VALUES(26,'2026-11-27T10:25:14.560180533Z','service','add host set','reduction-hosts','[{"kind":"host set","id":2,"after":{"id":2,"name":"reduction-hosts","description":"Where the raw plates become catalogues","rules":[{"id":3,"from":"192.0.2.32/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'617DC92D14B1D5BC396BAB0307046014BB8E5F443462BC85719B69ED967428B3',X'0E55A41D886D56874BF3388584E043C0981A14A2CF9C789746EDB7A23A358377');
INSERT INTO "journal" VALUES(27,'2026-11-27T10:25:14.561174989Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1,"permissions":"acl","ownership":"mapped"}}]',X'0E55A41D886D56874BF3388584E043C0981A14A2CF9C789746EDB7A23A358377',X'16463362843E8C78B4FF7815A61E5F36BD28817E4DB347F6C62C85727E6F75DC');
INSERT INTO "journal" VALUES(28,'2026-11-27T10:25:14.56223716Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'16463362843E8C78B4FF7815A61E5F36BD28817E4DB347F6C62C85727E6F75DC',X'76F2EDFDD8EC547682320D889C7CE99B8CCC60DE24197E54B81BEA58F53484C8');
INSERT INTO "journal" VALUES(29,'2026-11-27T10:25:14.563206689Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'76F2EDFDD8EC547682320D889C7CE99B8CCC60DE24197E54B81BEA58F53484C8',X'C13619783EB836F130D7E9E6C59599278AB9C4D563D9AFB8919F71A66EA44115');
INSERT INTO "journal" VALUES(30,'2026-11-27T10:25:14.564129365Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'C13619783EB836F130D7E9E6C59599278AB9C4D563D9AFB8919F71A66EA44115',X'50D67FA1A211F38727B8225E9F258701D0C98CE2A9ABABBCA4E0E28BEF102CEE');
INSERT INTO "journal" VALUES(31,'2026-11-27T10:25:14.565088659Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2,"permissions":"acl","ownership":"mapped"}}]',X'50D67FA1A211F38727B8225E9F258701D0C98CE2A9ABABBCA4E0E28BEF102CEE',X'638FAB512F056CB8A1B96B3F3D8A643049E0FDD2B6A8A350632116CEF5972286');
INSERT INTO "journal" VALUES(32,'2026-11-27T10:25:14.566220497Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'638FAB512F056CB8A1B96B3F3D8A643049E0FDD2B6A8A350632116CEF5972286',X'00005F8342CF2921B97D2540B9DD371478560B774B0B8AF6615390974B4E7AE9');
INSERT INTO "journal" VALUES(33,'2026-11-27T10:25:14.567337809Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'00005F8342CF2921B97D2540B9DD371478560B774B0B8AF6615390974B4E7AE9',X'DA909075B3D9C2EB88DAFC08C2F5D88A6A73A09656FC789AFC770A0C8CDA491C');
INSERT INTO "journal" VALUES(34,'2026-11-27T10:25:14.568296137Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'DA909075B3D9C2EB88DAFC08C2F5D88A6A73A09656FC789AFC770A0C8CDA491C',X'E14CF96757F55690904A9AE5E4D7504202C1FF48FCFE491560C12771B0E58632');
INSERT INTO "journal" VALUES(35,'2026-11-27T10:25:14.569449897Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'E14CF96757F55690904A9AE5E4D7504202C1FF48FCFE491560C12771B0E58632',X'8B30E7E19C19592F279E9210B2984FDABB32A9C9037E4D8277BCD4EB32EF83F7');
INSERT INTO "journal" VALUES(36,'2026-11-27T10:25:14.570556963Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'8B30E7E19C19592F279E9210B2984FDABB32A9C9037E4D8277BCD4EB32EF83F7',X'669E92286BE84A9898DA5BCEE29EFE9948922038DDC20D6ECC0BEA2945B53F65');
INSERT INTO "journal" VALUES(37,'2026-11-27T10:25:14.571694575Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'669E92286BE84A9898DA5BCEE29EFE9948922038DDC20D6ECC0BEA2945B53F65',X'84ADD93507D8C58E1D326FB06F619F3A08CAFBAB7C41CEF76EE01B7E369D6B67');
INSERT INTO "journal" VALUES(38,'2026-11-27T10:25:14.572743805Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'84ADD93507D8C58E1D326FB06F619F3A08CAFBAB7C41CEF76EE01B7E369D6B67',X'0F7AE0DB19B2DD5F691BF7B7675D2167BCE748CEB5321EB9CAC0C055A0D38FBA');
INSERT INTO "journal" VALUES(39,'2026-11-27T10:25:14.573692777Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'0F7AE0DB19B2DD5F691BF7B7675D2167BCE748CEB5321EB9CAC0C055A0D38FBA',X'EAC66AAAA1FDD229A769A3EA59E853A76B865FC27D75F16828F44EC15AAFB3AF');
INSERT INTO "journal" VALUES(40,'2026-11-27T10:25:14.574861698Z','service','add export','/instruments','[{"kind":"export","id":1,"after":{"id":1,"path":"/instruments","folderId":2,"rules":[{"id":4,"from":"@dome-hosts"}]}}]',X'EAC66AAAA1FDD229A769A3EA59E853A76B865FC27D75F16828F44EC15AAFB3AF',X'5F6077185E2D856054F309A8241896DE202A62B37D4269A6BC0171D1ACA7786B');
INSERT INTO "journal" VALUES(41,'2026-11-27T10:25:14.575950132Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3,"permissions":"acl","ownership":"mapped"}}]',X'5F6077185E2D856054F309A8241896DE202A62B37D4269A6BC0171D1ACA7786B',X'89C199EC52C885A12A83547B5A3E0E3510A563D87130BCD6831980B9F30B3AB9');
INSERT INTO "journal" VALUES(42,'2026-11-27T10:25:14.577072099Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'89C199EC52C885A12A83547B5A3E0E3510A563D87130BCD6831980B9F30B3AB9',X'688DC54EC9AB58F77A7D4F9DB335A29460D995814EDC82A21C1BC9B3A1108ECF');
INSERT INTO "journal" VALUES(43,'2026-11-27T10:25:14.578147852Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'688DC54EC9AB58F77A7D4F9DB335A29460D995814EDC82A21C1BC9B3A1108ECF',X'6C2277F0C3C258883D90AE0C67BD61911BBE2AA05213A1A3B38535A64D223312');
INSERT INTO "journal" VALUES(44,'2026-11-27T10:25:14.579265104Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'6C2277F0C3C258883D90AE0C67BD61911BBE2AA05213A1A3B38535A64D223312',X'332CDB09F21A65FC8E1A052942DE4250299E7B8DF232AB2B00F0106617C20683');
INSERT INTO "journal" VALUES(45,'2026-11-27T10:25:14.580311336Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'332CDB09F21A65FC8E1A052942DE4250299E7B8DF232AB2B00F0106617C20683',X'F7292326CF27B33C7FB84379116105BD21B227ABDEF43D926AD08A6C6F6CA5D5');
INSERT INTO "journal" VALUES(46,'2026-11-27T10:25:14.581676477Z','service','add export','/plates','[{"kind":"export","id":2,"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'F7292326CF27B33C7FB84379116105BD21B227ABDEF43D926AD08A6C6F6CA5D5',X'A9626C1F4173E58355FC45F5FEBCCAA6306467D277D34D48A9F152EE9E828872');
INSERT INTO "journal" VALUES(47,'2026-11-27T10:25:14.582771994Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5,"permissions":"acl","ownership":"mapped"}}]',X'A9626C1F4173E58355FC45F5FEBCCAA6306467D277D34D48A9F152EE9E828872',X'6A6AB975534FA70DAAB88CFE024A37759011B073A38B6B9830943C111C566D9B');
INSERT INTO "journal" VALUES(48,'2026-11-27T10:25:14.583828267Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'6A6AB975534FA70DAAB88CFE024A37759011B073A38B6B9830943C111C566D9B',X'C8EF034A70D08A6D04F3A0EABC790FEAB62F58ABCBE5B065EDBDAD308D120777');
INSERT INTO "journal" VALUES(49,'2026-11-27T10:25:14.58490832Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'C8EF034A70D08A6D04F3A0EABC790FEAB62F58ABCBE5B065EDBDAD308D120777',X'DE69AA54D30862B6F0CC493ECBF4BF010A895FB9C02FC1B4A72253C03D80388D');
INSERT INTO "journal" VALUES(50,'2026-11-27T10:25:14.586030714Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'DE69AA54D30862B6F0CC493ECBF4BF010A895FB9C02FC1B4A72253C03D80388D',X'168E7D061265320FCED4678F089C306588E8B37CB93BB5BD50B0E66E2CFCAFA8');
INSERT INTO "journal" VALUES(51,'2026-11-27T10:25:14.587209353Z','service','add export','/visitors','[{"kind":"export","id":3,"after":{"id":3,"path":"/visitors","folderId":4,"rules":[{"id":8,"from":"*","write":true,"squash":"none","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'168E7D061265320FCED4678F089C306588E8B37CB93BB5BD50B0E66E2CFCAFA8',X'BEC496A588599A5A7461228AC980FB29C67FFFC244D4FA37FB5CB2F1C9AFE8F0');
INSERT INTO "journal" VALUES(52,'2026-11-27T10:25:14.588290833Z','service','add folder','scratch','[{"kind":"folder","id":5,"after":{"id":5,"name":"scratch","volumeId":1,"path":"scratch","description":"Room for the reduction hosts; nothing here is kept","owner":11,"group":4,"permissions":"unix","ownership":"mapped"}}]',X'BEC496A588599A5A7461228AC980FB29C67FFFC244D4FA37FB5CB2F1C9AFE8F0',X'DE52EFD2BEE458CA18731C115FCE9CB53180D5FF8A61D8706E35FBDC7FAF5DDE');
INSERT INTO "journal" VALUES(53,'2026-11-27T10:25:14.589488574Z','service','set mode','scratch','[]',X'DE52EFD2BEE458CA18731C115FCE9CB53180D5FF8A61D8706E35FBDC7FAF5DDE',X'E416244FED746F446DA5E2971FDCFED3150C089590AB025CB2EA944E1C8D9595');
INSERT INTO "journal" VALUES(54,'2026-11-27T10:25:14.590739162Z','service','add export','/scratch','[{"kind":"export","id":4,"after":{"id":4,"path":"/scratch","folderId":5,"rules":[{"id":9,"from":"@reduction-hosts"},{"id":10,"from":"127.0.0.1","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"number"}]}}]',X'E416244FED746F446DA5E2971FDCFED3150C089590AB025CB2EA944E1C8D9595',X'4572C84185DB7C54408B1A45C1C17CB6BF268ED5706AC435939D7AC3B7DE5E45');
INSERT INTO "journal" VALUES(55,'2026-11-27T10:25:14.591838967Z','service','add folder','personal','[{"kind":"folder","id":6,"after":{"id":6,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4,"permissions":"acl","ownership":"mapped"}}]',X'4572C84185DB7C54408B1A45C1C17CB6BF268ED5706AC435939D7AC3B7DE5E45',X'12D95B78F16EE236A322CCD853E4F866A97A65949DA4CBB927ED5BEFD17D3F5F');
INSERT INTO "journal" VALUES(56,'2026-11-27T10:25:14.593016267Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'12D95B78F16EE236A322CCD853E4F866A97A65949DA4CBB927ED5BEFD17D3F5F',X'43D5627CD36A5CEF563FFA3BD021698F811C95571269D38D97EE177C997725DF');
INSERT INTO "journal" VALUES(57,'2026-11-27T10:25:14.594188361Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":6,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'43D5627CD36A5CEF563FFA3BD021698F811C95571269D38D97EE177C997725DF',X'1D7C40A0D66C64980719FCC307408D44A0E6E7299E83A916248B01BE7C376818');
INSERT INTO "journal" VALUES(58,'2026-11-27T10:25:14.595427585Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":6,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'1D7C40A0D66C64980719FCC307408D44A0E6E7299E83A916248B01BE7C376818',X'A85D09EE0FE481DDC581DA8FA00E78E50296A982CD1B952137E1A28747F65C74');
INSERT INTO "journal" VALUES(59,'2026-11-27T10:25:14.596658849Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":6,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'A85D09EE0FE481DDC581DA8FA00E78E50296A982CD1B952137E1A28747F65C74',X'2990FB8C7C3344FC617A27BB548C46BEB1EDD9E8C2A8F99B8BE607BEFCD52DAF');
INSERT INTO "journal" VALUES(60,'2026-11-27T10:25:14.597864486Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":6,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'2990FB8C7C3344FC617A27BB548C46BEB1EDD9E8C2A8F99B8BE607BEFCD52DAF',X'87EE6349743147F764C5D17ACA4055B9BE2E25E201D3765FEB55D329E044BA6A');
INSERT INTO "journal" VALUES(61,'2026-11-27T10:25:14.599102711Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":6,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'87EE6349743147F764C5D17ACA4055B9BE2E25E201D3765FEB55D329E044BA6A',X'98506C34AFEC79E5C87D3F8940E3A3148F292DCD729C292842A4249EDE9C4F54');
INSERT INTO "journal" VALUES(62,'2026-11-27T10:25:14.600232282Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":6,"announced":true,"listOnlyOpenable":true}}]',X'98506C34AFEC79E5C87D3F8940E3A3148F292DCD729C292842A4249EDE9C4F54',X'6BCB1FB8FDDAD62FAAE43AF4159EB9A87F4BE6EF66B5CF0FE70D9E054A658D3D');
INSERT INTO "journal" VALUES(63,'2026-11-27T10:25:14.601356981Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'6BCB1FB8FDDAD62FAAE43AF4159EB9A87F4BE6EF66B5CF0FE70D9E054A658D3D',X'A503413DD3DB7048EFB13F06CFA049E1FB526D547425C3318266783CC7EBAD10');
INSERT INTO "journal" VALUES(64,'2026-11-27T10:25:14.60259877Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":6},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'A503413DD3DB7048EFB13F06CFA049E1FB526D547425C3318266783CC7EBAD10',X'68C612F11A2401A9B64AD33E3E61B73C224F27C3013DDC76D88E22845A358269');
INSERT INTO "journal" VALUES(65,'2026-11-27T10:25:14.603780425Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"},{"id":21,"who":{"kind":1,"id":7},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'68C612F11A2401A9B64AD33E3E61B73C224F27C3013DDC76D88E22845A358269',X'561A39EDF7AAD6B90A646B1765DD888ECD73C767D6348F041F72C5DA17AA6063');
INSERT INTO "journal" VALUES(66,'2026-11-27T10:25:14.604978467Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":22,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'561A39EDF7AAD6B90A646B1765DD888ECD73C767D6348F041F72C5DA17AA6063',X'8274BCFC59FE69AC5043799349D407116C903DD4E11A4D15769233927D7D4EA0');
INSERT INTO "journal" VALUES(67,'2026-11-27T10:25:14.606227109Z','service','add entry','personal','[{"kind":"rule","id":7,"before":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]},"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1},{"id":23,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'8274BCFC59FE69AC5043799349D407116C903DD4E11A4D15769233927D7D4EA0',X'DBF4038E2E53CDD782B3015A4ACCA7357AD0EB428551787A62A6050302EABB26');
INSERT INTO "journal" VALUES(68,'2026-11-27T10:25:14.607418888Z','service','remember numbers','dome1','[{"kind":"id list","id":1,"after":{"id":1,"host":"dome1","numbers":[{"name":"svc-dome","number":2101},{"name":"tomasz","number":2004},{"name":"piran","number":2002}]}}]',X'DBF4038E2E53CDD782B3015A4ACCA7357AD0EB428551787A62A6050302EABB26',X'1DD774614894FC745AA14E9F01DDC3A6F70C63B458A3952D2205880AD21A3FD4');
INSERT INTO "journal" VALUES(69,'2026-11-27T10:25:14.608746151Z','service','give to bettany and group archive','personal/bettany/plate-index.dat','[]',X'1DD774614894FC745AA14E9F01DDC3A6F70C63B458A3952D2205880AD21A3FD4',X'1362AA254DB1CA25ADCCC6FB567152831A7F798C9E2ABDAB6223964AF834AADF');
INSERT INTO "journal" VALUES(70,'2026-11-27T10:25:14.61008529Z','service','give to piran and group observers','personal/piran/allsky-2026-03.dat','[]',X'1362AA254DB1CA25ADCCC6FB567152831A7F798C9E2ABDAB6223964AF834AADF',X'55B2D2477DC43350074EEA665E35706E50C887CBC093F239D30234FD0AC71923');
INSERT INTO "journal" VALUES(71,'2026-11-27T10:25:14.611260788Z','service','give to isolde and group observers','personal/isolde/spectra.dat','[]',X'55B2D2477DC43350074EEA665E35706E50C887CBC093F239D30234FD0AC71923',X'C6E8D5140C27227AD5E22456D3E03867FC1973AF56ABF67FF2CF0FE83BE7AE82');
INSERT INTO "journal" VALUES(72,'2026-11-27T10:25:14.612453551Z','service','give to tomasz and group engineers','personal/tomasz/bench.dat','[]',X'C6E8D5140C27227AD5E22456D3E03867FC1973AF56ABF67FF2CF0FE83BE7AE82',X'F1C460221095F1AFC9AA34EACDDE94EA6F9BD9035B80C245F7F49AF65E6E2AED');
INSERT INTO "journal" VALUES(73,'2026-11-27T10:25:14.613649164Z','service','give to orla and group visitors','visitors/orla-field.dat','[]',X'F1C460221095F1AFC9AA34EACDDE94EA6F9BD9035B80C245F7F49AF65E6E2AED',X'E74E4AD0832583FA9A21AC510C30B2E128E6573BBFF75280E82141A7E7560B3D');
INSERT INTO "journal" VALUES(74,'2026-11-27T10:25:14.614880951Z','service','give to svc-reduce and group staff','scratch/2026-03/stack.dat','[]',X'E74E4AD0832583FA9A21AC510C30B2E128E6573BBFF75280E82141A7E7560B3D',X'D90996A90F2261704205B6700494685E309676C2C12DF09707B45962A5B3A187');
INSERT INTO "journal" VALUES(75,'2026-11-27T10:25:14.616153569Z','service','set limit','user bettany','[{"kind":"limit","id":1,"after":{"id":1,"kind":"user","user":7,"hardBytes":5000000,"graceSeconds":604800}}]',X'D90996A90F2261704205B6700494685E309676C2C12DF09707B45962A5B3A187',X'78311E87EBC77F7CB24773BDC5824CD788ECEB62E72ED50D1B6B658DA23CD9E4');
INSERT INTO "journal" VALUES(76,'2026-11-27T10:25:14.617537454Z','service','set limit','user piran','[{"kind":"limit","id":2,"after":{"id":2,"kind":"user","user":5,"softBytes":2000000,"hardBytes":4000000,"graceSeconds":604800}}]',X'78311E87EBC77F7CB24773BDC5824CD788ECEB62E72ED50D1B6B658DA23CD9E4',X'983FB6B9636FE4CAB380C35CFC14ECCC8B68114CDF7094893F16E0D0CA37BF7E');
INSERT INTO "journal" VALUES(77,'2026-11-27T10:25:14.61883926Z','service','set limit','user svc-reduce in scratch','[{"kind":"limit","id":3,"after":{"id":3,"kind":"user","user":11,"folderId":5,"hardBytes":1000000,"graceSeconds":604800}}]',X'983FB6B9636FE4CAB380C35CFC14ECCC8B68114CDF7094893F16E0D0CA37BF7E',X'71826D1BC269E67FA02CBA43D0D600C05DFB25A4F911570E5071C5D5E0464AF6');
INSERT INTO "journal" VALUES(78,'2026-11-27T10:25:14.620069265Z','service','set limit','default of visitors in visitors','[{"kind":"limit","id":4,"after":{"id":4,"kind":"default","group":5,"folderId":4,"hardBytes":500000,"graceSeconds":604800}}]',X'71826D1BC269E67FA02CBA43D0D600C05DFB25A4F911570E5071C5D5E0464AF6',X'22265E2EF50D1A2D8F38AE91C1ED58D559F0B64B0BCCD97D56CBA3D599C8728F');
INSERT INTO "journal" VALUES(79,'2026-11-27T10:25:14.621330302Z','service','set limit','folder nightlog','[{"kind":"limit","id":5,"after":{"id":5,"kind":"folder","folderId":1,"softBytes":2500000,"hardBytes":3000000,"graceSeconds":259200}}]',X'22265E2EF50D1A2D8F38AE91C1ED58D559F0B64B0BCCD97D56CBA3D599C8728F',X'D32DD240683CD2AA581D47231132F5F6D0E556652CAA44EAD4C30EFEE3903B7E');
INSERT INTO "journal" VALUES(80,'2026-11-27T10:25:14.622560292Z','service','set limit','folder plates','[{"kind":"limit","id":6,"after":{"id":6,"kind":"folder","folderId":3,"hardBytes":20000000,"graceSeconds":604800}}]',X'D32DD240683CD2AA581D47231132F5F6D0E556652CAA44EAD4C30EFEE3903B7E',X'B2997F48FE369ABB669572DBC205A75781921179457D0E6333A4743B6AD996B5');
INSERT INTO "journal" VALUES(81,'2026-11-27T10:25:14.623880966Z','service','set limit','folder plates/2026','[{"kind":"limit","id":7,"after":{"id":7,"kind":"folder","folderId":3,"path":"2026","hardBytes":10000000,"hardFiles":2000,"graceSeconds":604800}}]',X'B2997F48FE369ABB669572DBC205A75781921179457D0E6333A4743B6AD996B5',X'E55D1B1211B66ECCC1D7424F60E1376BB4AD9AD65B0C66FD16F510BDD19CF149');
INSERT INTO "journal" VALUES(82,'2026-11-27T10:25:14.625094338Z','service','switch service on','nfs','[{"kind":"services","id":1,"before":{"smb":true,"nfs":false},"after":{"smb":true,"nfs":true}}]',X'E55D1B1211B66ECCC1D7424F60E1376BB4AD9AD65B0C66FD16F510BDD19CF149',X'E4FAE287D5F32412D109191B2EB3050F562D333718A91C132D5CF9B112E72CF6');
INSERT INTO "journal" VALUES(83,'2026-11-27T10:25:14.627207934Z','service','change notices','notices','[{"kind":"notices","id":1,"after":{"percent":null,"mail":{"server":"127.0.0.1:46325","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf88u9JW0wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTRaFw0zNjExMjcxMDI1MTRa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAQ3ajAeNk7cOwlcM2ORenREFobo9h17dQ7cy6dBorAjzRskovb1LyEl\nKVTGm5v8q+qjo3bUasPMXUATAcPP5JFVo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUbVDU4xQ+Y86Q6H1MCwDlFIswOaAwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIDceAlWrzCikJqCxTu8KAngYO48CbJPdvyBv+K/wMZe1AiEA\n9C/kS1EGmI454ArkGgPEK4aRuQ2zIglw/iof3d+C9tA=\n-----END CERTIFICATE-----\n"}}}]',X'E4FAE287D5F32412D109191B2EB3050F562D333718A91C132D5CF9B112E72CF6',X'3ADAE8E496E7E091F504F49B0B6683F5DBA9D26159CA2092B22945DBBABA93D0');
INSERT INTO "journal" VALUES(84,'2026-11-27T10:25:14.678941408Z','service','tell','bettany: 4.7 MB in use, 90 % or more of the hard limit of 5 MB.','[]',X'3ADAE8E496E7E091F504F49B0B6683F5DBA9D26159CA2092B22945DBBABA93D0',X'DA283DB70D2CC65E0D519A043690F8E7671C698DE73EDBB4C26B9DDFBFC4E0A9');
INSERT INTO "journal" VALUES(85,'2026-11-27T10:25:14.679021352Z','service','tell','piran: 2.3 MB in use, more than the soft limit of 2 MB; nothing can grow from 4 December 2026, 10:25 UTC on, unless there is less by then.','[]',X'DA283DB70D2CC65E0D519A043690F8E7671C698DE73EDBB4C26B9DDFBFC4E0A9',X'974283BAA536ECC2D591BA6FCD018B5376BD61332B6C6A4C74C986B3F7DF8E23');
INSERT INTO "journal" VALUES(86,'2026-11-27T10:25:14.679060689Z','service','tell','svc-reduce: 1 MB in use, which is all of the hard limit of 1 MB; nothing can grow. The limit is that of user svc-reduce in scratch.','[]',X'974283BAA536ECC2D591BA6FCD018B5376BD61332B6C6A4C74C986B3F7DF8E23',X'4A1221C76527D543B8A943A4C89F52C29A6E35DF1F97F5F99B3C97BCAED971E1');
INSERT INTO "journal" VALUES(87,'2026-11-27T10:25:14.995953992Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'4A1221C76527D543B8A943A4C89F52C29A6E35DF1F97F5F99B3C97BCAED971E1',X'6AF4451363FA69423E9C7D04888129CCB090B2FBBA28A58B21FB43A654C78C39');
INSERT INTO "journal" VALUES(88,'2026-11-27T10:25:15.018774604Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":24,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'6AF4451363FA69423E9C7D04888129CCB090B2FBBA28A58B21FB43A654C78C39',X'32165EC573B2E318DB9E3F6D8FEADAF372D2510F00E1F8962F5D4B52A59877B5');
INSERT INTO "journal" VALUES(89,'2026-11-27T10:25:15.042901118Z','keeper','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"},{"id":25,"who":{"kind":1,"id":8},"level":2,"applies":7,"note":"for the spring run"}]}}]',X'32165EC573B2E318DB9E3F6D8FEADAF372D2510F00E1F8962F5D4B52A59877B5',X'5AED4F49D2A5832D43532AC666099F687847B2C758DEB04C95CAD104786A45B1');
INSERT INTO "journal" VALUES(90,'2026-11-27T10:25:15.0657002Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'5AED4F49D2A5832D43532AC666099F687847B2C758DEB04C95CAD104786A45B1',X'3EFAB49B764C70824CEF500CF3B6DC297894B4C139ED749E45446E45F0D62A12');
INSERT INTO "journal" VALUES(91,'2026-11-27T10:25:15.090380519Z','keeper','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'3EFAB49B764C70824CEF500CF3B6DC297894B4C139ED749E45446E45F0D62A12',X'9C049B8EB03BDBCDB3CA9C8998ED91ACB697B9ED068DB252B595B429FEEA00AE');
INSERT INTO "journal" VALUES(92,'2026-11-27T10:25:15.115143123Z','keeper','add client rule','/plates','[{"kind":"export","id":2,"before":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]},"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":11,"from":"192.0.2.99","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'9C049B8EB03BDBCDB3CA9C8998ED91ACB697B9ED068DB252B595B429FEEA00AE',X'502A961D1831F63F4741DB74A8BAED69DBED1FD87B8EB73B9E273530CD2217AE');
INSERT INTO "journal" VALUES(93,'2026-11-27T10:25:15.139259185Z','keeper','set limit','user wren','[{"kind":"limit","id":8,"after":{"id":8,"kind":"user","user":3,"hardBytes":2000000000,"graceSeconds":604800}}]',X'502A961D1831F63F4741DB74A8BAED69DBED1FD87B8EB73B9E273530CD2217AE',X'F934BFC3739282232287F0B37EDDE3443A20E7FB349F580A48643804B7BABAA8');
INSERT INTO "journal" VALUES(94,'2026-11-27T10:25:15.155116663Z','keeper','change notices','notices','[{"kind":"notices","id":1,"before":{"percent":null,"mail":{"server":"127.0.0.1:46325","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf88u9JW0wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTRaFw0zNjExMjcxMDI1MTRa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAQ3ajAeNk7cOwlcM2ORenREFobo9h17dQ7cy6dBorAjzRskovb1LyEl\nKVTGm5v8q+qjo3bUasPMXUATAcPP5JFVo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUbVDU4xQ+Y86Q6H1MCwDlFIswOaAwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIDceAlWrzCikJqCxTu8KAngYO48CbJPdvyBv+K/wMZe1AiEA\n9C/kS1EGmI454ArkGgPEK4aRuQ2zIglw/iof3d+C9tA=\n-----END CERTIFICATE-----\n"}},"after":{"percent":[75,100],"mail":{"server":"127.0.0.1:46325","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf88u9JW0wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTRaFw0zNjExMjcxMDI1MTRa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAQ3ajAeNk7cOwlcM2ORenREFobo9h17dQ7cy6dBorAjzRskovb1LyEl\nKVTGm5v8q+qjo3bUasPMXUATAcPP5JFVo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUbVDU4xQ+Y86Q6H1MCwDlFIswOaAwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIDceAlWrzCikJqCxTu8KAngYO48CbJPdvyBv+K/wMZe1AiEA\n9C/kS1EGmI454ArkGgPEK4aRuQ2zIglw/iof3d+C9tA=\n-----END CERTIFICATE-----\n"}}}]',X'F934BFC3739282232287F0B37EDDE3443A20E7FB349F580A48643804B7BABAA8',X'58E40F5A15E9A7AEA4CDF7BFAF5D13793565977EFE7B81F8C52101AE911C1BC3');
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
INSERT INTO "notices" VALUES(1,'{"percent":[75,100],"mail":{"server":"127.0.0.1:46325","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf88u9JW0wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTRaFw0zNjExMjcxMDI1MTRa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAQ3ajAeNk7cOwlcM2ORenREFobo9h17dQ7cy6dBorAjzRskovb1LyEl\nKVTGm5v8q+qjo3bUasPMXUATAcPP5JFVo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUbVDU4xQ+Y86Q6H1MCwDlFIswOaAwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIDceAlWrzCikJqCxTu8KAngYO48CbJPdvyBv+K/wMZe1AiEA\n9C/kS1EGmI454ArkGgPEK4aRuQ2zIglw/iof3d+C9tA=\n-----END CERTIFICATE-----\n"}}',NULL);
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
INSERT INTO "sessions" VALUES(X'12749DE9886A1D7BFB1BE24772C8EBF92EB43EE8043558A93157E132D3ABADAE',1,'2026-11-27T10:25:14Z','2026-11-27T22:25:14Z');
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
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$wa7t5PKs1HwEOVp724x7Sg$EaohX1RZlztVRTsgFJe2/l/Ug9YUP9RGVxQS3NudVLU',X'FECF753EB5C696227999D2763649ADF33249A096D6D40EF8DF7B82D1FEC9D5E832FCEC7EDE3EDDAB641E65AF','keeper@larkfell.example');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$DK/Wmh9NCTkvONmpxFILzg$aMZgaGCia6Q+EXbgM11XbiILH2ZEEkZdG9knQTS0r1E',X'DCC3DE7EEB2B73F1A7DE04DC931C3222EA0CB2179CD879E75723F7D0C9128D79F28FBF995C81D61F339CF6A9','');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$mKzAoEl5UhR1sEs931J71g$qiUMxtfBe9g/UQze4N3bn0Mw+KxFnFHBJ+kpTNwCZX4',X'DB5B1AEAACF2DC4A7C3E0163EA2486FA4627507B1ED2ABCC34604B71FD0280BE0A438AA08DA4D5F03261E1C5','wren@larkfell.example');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$nL75q1m7eKbi4EQgf40tUg$hcbz/niCjhQfZVFc1xERKDRbXxRs98kfRfMtCMKI9iU',X'FD754B19EFB779C4875EE11F7BC7DC8A7CCA0A3AF8ED2E1795D11B79EC1E2369AFE92725D63407C5512418C5','isolde@larkfell.example');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$0AegJMsZ8Y/oPC72k+xdEw$P9KJOKVtNaR221KZsgTPBWza5fpKdgTT6bPcLM3L2Iw',X'984D6EC0E68D86CF4E9445A4100492ECF9FC617B086AF47241EF94CB849D9551AC2F968B77E240286390874A','piran@larkfell.example');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$3RPA3Voc4rLl51oge5rlew$Rg+Kle1hTek0Qvu7mS+WkTRFc/2bV3XkWLykQsjF0Ew',X'4A0C3D6D23C5A0A126F91226B7697E72DC2615B1DF4232F0FF2DCAFAC708D96A99731A0D5037783DDC32560B','tomasz@larkfell.example');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$kqrnSuICNYWMRuxsop3H1A$kG4PWi9sva4RJRqsFBpDWf3dXC3PUQcHhlxkDIyC4jc',X'E59550856E4264A5056436A3645F43F7650CE7ECF5F95EE5B75EB8BC2683C10DC664F48E133A72268B61226B','bettany@larkfell.example');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$i5IKLFkssXK0m/AbY1ZFPA$evph1jNrMVATMNlYuuTbE97Y2CnYump4T0kxz3Enqk8',X'1C8303BE2C033B7A2CD7B26AA97EF5CEF6A675788F959B64A150055A870569B8F0D14F24CB10A2A6A7B2FD21','orla@larkfell.example');
INSERT INTO "users" VALUES(9,'corin','Corin Vale',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$fBW3KqdVPSql6SLrwINjlg$ScCyF+4XlNwN/53lv0RqChBXXsnKEAo5hQyMEF61AtE',X'5BB00EA005128D41AA5F985E35746E7BBBA0BE6A7D895FED49A06CC6CD47F2E68F1A70B822727330D19F5B8F','');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,3,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$ZdoYyZqxl/kHm8o2+yZAfg$3qiphVxAjI8S7RcxciStshZNUiB7Nc7f1F174U39+nk',X'14C9BC3FF0EDF9D85ED904DF50770FCDB21610DA2E6BF1E5228972BC4DD086C66E6ABD97D1123F0D94ACC911','');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,1,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$Bwma5JJGBTTQo7QUeRknxQ$T9qvkBLuNg+xLaoQcVVC8vdWkkWrIltWqfQ9NQxb6Bw',X'B096980C7B6178C663721726AE8F0AF3AB49D193FC07DABD8FD9BD11D2960BF0F7E2B554FB1EBC2CF867CA4C','');
INSERT INTO "users" VALUES(12,'lunt','Lunt Harrow',2103,NULL,'',0,0,NULL,1,1,NULL,NULL,'');
CREATE TABLE volumes (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    path TEXT NOT NULL UNIQUE
, counting TEXT NOT NULL DEFAULT 'off' CHECK (counting IN ('off', 'size', 'allocated'))) STRICT;
INSERT INTO "volumes" VALUES(1,'summit','/srv/larkfell/state/volumes/summit','size');
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
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',7);
INSERT INTO "sqlite_sequence" VALUES('entries',25);
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
COMMIT;
