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
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 10:25:10');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 10:25:10');
INSERT INTO "goose_db_version" VALUES(3,2,1,'2026-11-27 10:25:10');
INSERT INTO "goose_db_version" VALUES(4,3,1,'2026-11-27 10:25:10');
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
INSERT INTO "journal" VALUES(1,'2026-11-27T10:25:10.958102307Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'117C97008B34A5C57B436F0E4068DFAD487E7599FFDA46CADE87645E0119D731');
INSERT INTO "journal" VALUES(2,'2026-11-27T10:25:10.960740236Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'117C97008B34A5C57B436F0E4068DFAD487E7599FFDA46CADE87645E0119D731',X'AE42F23C5CEA871EA8655007BA86747DBA98CC376A7337CD26D8304E9D2A7464');
INSERT INTO "journal" VALUES(3,'2026-11-27T10:25:10.961494891Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'AE42F23C5CEA871EA8655007BA86747DBA98CC376A7337CD26D8304E9D2A7464',X'A63CEECA714D75E09B900818F38260F8AC9887B91A0835D181045F09029AB064');
INSERT INTO "journal" VALUES(4,'2026-11-27T10:25:10.962195317Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'A63CEECA714D75E09B900818F38260F8AC9887B91A0835D181045F09029AB064',X'C22F679A9EB68BCDC515EF758125675E8F83BA59E54626836F3F95D763D3148C');
INSERT INTO "journal" VALUES(5,'2026-11-27T10:25:10.962841452Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'C22F679A9EB68BCDC515EF758125675E8F83BA59E54626836F3F95D763D3148C',X'9DC32DFD8D59494C2879AC1E8D945AA3ACFE9E3137DBA021F9BF1BEC4140C66A');
INSERT INTO "journal" VALUES(6,'2026-11-27T10:25:10.963495481Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'9DC32DFD8D59494C2879AC1E8D945AA3ACFE9E3137DBA021F9BF1BEC4140C66A',X'BCD6A5872D18E3FA0DF31A13670F12DCEDD6E71A9D7F9E7CB2E1FF9D35B06718');
INSERT INTO "journal" VALUES(7,'2026-11-27T10:25:11.020641049Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900}}]',X'BCD6A5872D18E3FA0DF31A13670F12DCEDD6E71A9D7F9E7CB2E1FF9D35B06718',X'A72D8918C18765548D001C17A4B55182C47146C721DE431A0FE996D1B26FE22C');
INSERT INTO "journal" VALUES(8,'2026-11-27T10:25:11.07734816Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'A72D8918C18765548D001C17A4B55182C47146C721DE431A0FE996D1B26FE22C',X'0320473144A05F4A84487F8F6EA6D9298CCCF96F73FDC50F8FC6ABB664801188');
INSERT INTO "journal" VALUES(9,'2026-11-27T10:25:11.135416761Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true}}]',X'0320473144A05F4A84487F8F6EA6D9298CCCF96F73FDC50F8FC6ABB664801188',X'CD131CD8A5B04B6F08B78E69EF5433570D03635E1ACE3D048FA27A02BE534E70');
INSERT INTO "journal" VALUES(10,'2026-11-27T10:25:11.179694401Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true}}]',X'CD131CD8A5B04B6F08B78E69EF5433570D03635E1ACE3D048FA27A02BE534E70',X'FD9EC1F47D5897271F170D54E45344A6076E0FCC87B659609F488D4E94356F23');
INSERT INTO "journal" VALUES(11,'2026-11-27T10:25:11.218188861Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true}}]',X'FD9EC1F47D5897271F170D54E45344A6076E0FCC87B659609F488D4E94356F23',X'6FEA9FEAE10F017E41547CD522674D31E94991256C588A44E711F72C40F9085F');
INSERT INTO "journal" VALUES(12,'2026-11-27T10:25:11.256648668Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true}}]',X'6FEA9FEAE10F017E41547CD522674D31E94991256C588A44E711F72C40F9085F',X'99BF3A0708D21D580A867DECB07FAB503758F4107A8666CA900053C72499155F');
INSERT INTO "journal" VALUES(13,'2026-11-27T10:25:11.295964733Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true}}]',X'99BF3A0708D21D580A867DECB07FAB503758F4107A8666CA900053C72499155F',X'245BF47B13E8CF6EB902AB6844C2ED4B59831E6A752AE5D6E3A957476944EAF9');
INSERT INTO "journal" VALUES(14,'2026-11-27T10:25:11.334562886Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true}}]',X'245BF47B13E8CF6EB902AB6844C2ED4B59831E6A752AE5D6E3A957476944EAF9',X'897496757F616704D57E5F584D14F78FFEA13227C3DD6495AA50D5E277AB064A');
INSERT INTO "journal" VALUES(15,'2026-11-27T10:25:11.373812239Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'897496757F616704D57E5F584D14F78FFEA13227C3DD6495AA50D5E277AB064A',X'2FD4D1A5D43CD763A80C34E114E62EE3B93ED890537D388949C2BD82E70D0097');
INSERT INTO "journal" VALUES(16,'2026-11-27T10:25:11.374888196Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'2FD4D1A5D43CD763A80C34E114E62EE3B93ED890537D388949C2BD82E70D0097',X'1D67112B73F090B3C3C0F68E67EFC8C37CFAF7198DA6A208306A0AF60A24E121');
INSERT INTO "journal" VALUES(17,'2026-11-27T10:25:11.413459693Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"primary":3,"service":true,"nfs":true}}]',X'1D67112B73F090B3C3C0F68E67EFC8C37CFAF7198DA6A208306A0AF60A24E121',X'D3A48DC108FC19FB223A8A9FEE41ACB72D1EC331F556D3CBF4CBB806B123C8AC');
INSERT INTO "journal" VALUES(18,'2026-11-27T10:25:11.452386202Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"primary":1,"service":true,"nfs":true}}]',X'D3A48DC108FC19FB223A8A9FEE41ACB72D1EC331F556D3CBF4CBB806B123C8AC',X'46E2B82A61F100A64290B5EA54929D163B2C4B6AA788C98FBF29F5B7B6B03043');
INSERT INTO "journal" VALUES(19,'2026-11-27T10:25:11.453429069Z','service','add member svc-dome','archive','[{"kind":"group","id":3,"before":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"},"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive","members":[{"kind":1,"id":10}]}}]',X'46E2B82A61F100A64290B5EA54929D163B2C4B6AA788C98FBF29F5B7B6B03043',X'64B43AFFF85384C6E3AFDF71C97A2F44D4AA89B700280A65FBD88113A1019E13');
INSERT INTO "journal" VALUES(20,'2026-11-27T10:25:11.454225635Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'64B43AFFF85384C6E3AFDF71C97A2F44D4AA89B700280A65FBD88113A1019E13',X'3E49D61E0354F9474C6D0C44FB5B5C39A30A564FE3B731204DB97BA2747C25FD');
INSERT INTO "journal" VALUES(21,'2026-11-27T10:25:11.454930651Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'3E49D61E0354F9474C6D0C44FB5B5C39A30A564FE3B731204DB97BA2747C25FD',X'B2E10AC5B3BF8236F30BD4C4018AE921534E035647F33E538805B13074EC7ADD');
INSERT INTO "journal" VALUES(22,'2026-11-27T10:25:11.455679612Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'B2E10AC5B3BF8236F30BD4C4018AE921534E035647F33E538805B13074EC7ADD',X'755776091753E5D781A1A693879CD7A98039246D61EEE010BD02306A0B8A840B');
INSERT INTO "journal" VALUES(23,'2026-11-27T10:25:11.456412354Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'755776091753E5D781A1A693879CD7A98039246D61EEE010BD02306A0B8A840B',X'4B853ECF31E820A9BBD30DCD2C7800392082E5F55BF77CB5D3D4E686A8C7217F');
INSERT INTO "journal" VALUES(24,'2026-11-27T10:25:11.458289301Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit"}}]',X'4B853ECF31E820A9BBD30DCD2C7800392082E5F55BF77CB5D3D4E686A8C7217F',X'AB5ABC99FFFA37C46FF57C5A8D6A0B4FB046595684A2EC621AC1A76B6B36A9E9');
INSERT INTO "journal" VALUES(25,'2026-11-27T10:25:11.459544012Z','service','add host set','dome-hosts','[{"kind":"host set","id":1,"after":{"id":1,"name":"dome-hosts","description":"Dome control, on the mountain''s own network","rules":[{"id":1,"from":"192.0.2.16/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":2,"from":"dome*.larkfell.example","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'AB5ABC99FFFA37C46FF57C5A8D6A0B4FB046595684A2EC621AC1A76B6B36A9E9',X'4C583F9E7460935C82C53980CB20E403D0F12384C4D86729A87163F3376225CD');
INSERT INTO "journal" VALUES(26,'2026-11-27T10:25:11.460512898Z','service','add host set','reduction-hosts','[{"kind":"host set","id":2,"after":{"id":2,"name":"reduction-hosts","description":"Where the raw plates become catalogues","rules":[{"id":3,"from":"192.0.2.32/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'4C583F9E7460935C82C53980CB20E403D0F12384C4D86729A87163F3376225CD',X'1075B979DB2AA1471B095FF887F3F79926B2C440134D2F6BB46B3B1A454FABF4');
INSERT INTO "journal" VALUES(27,'2026-11-27T10:25:11.461586585Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1,"permissions":"acl","ownership":"mapped"}}]',X'1075B979DB2AA1471B095FF887F3F79926B2C440134D2F6BB46B3B1A454FABF4',X'64D7FF6CFAE2B41A17C69D0B0F80FA78600827D7AD18A85102AF42C4029ECBF1');
INSERT INTO "journal" VALUES(28,'2026-11-27T10:25:11.462738497Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'64D7FF6CFAE2B41A17C69D0B0F80FA78600827D7AD18A85102AF42C4029ECBF1',X'349FD601C8CE69AC353A504CBC4CADBD18019C8F42785AB809F0749E574AC284');
INSERT INTO "journal" VALUES(29,'2026-11-27T10:25:11.463674933Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'349FD601C8CE69AC353A504CBC4CADBD18019C8F42785AB809F0749E574AC284',X'5AE9F5EBB840A29832B0D1A219C690583130C17DAA80CC34DE765EF1DDA99FE2');
INSERT INTO "journal" VALUES(30,'2026-11-27T10:25:11.464595768Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'5AE9F5EBB840A29832B0D1A219C690583130C17DAA80CC34DE765EF1DDA99FE2',X'AF748173F5C10D2502A0C231B872092B8EB2047F4316D0A645E6E49DE3FC00E0');
INSERT INTO "journal" VALUES(31,'2026-11-27T10:25:11.465548824Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2,"permissions":"acl","ownership":"mapped"}}]',X'AF748173F5C10D2502A0C231B872092B8EB2047F4316D0A645E6E49DE3FC00E0',X'57862F92216218FFF5D8025A36FB5E14F14CD571E90DCB895FA8128D4C03D96C');
INSERT INTO "journal" VALUES(32,'2026-11-27T10:25:11.466590157Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'57862F92216218FFF5D8025A36FB5E14F14CD571E90DCB895FA8128D4C03D96C',X'029072E1F615162CDFEA26AE0C12234F83BEAB19F52EB5251E287CD9F257AD7D');
INSERT INTO "journal" VALUES(33,'2026-11-27T10:25:11.467572711Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'029072E1F615162CDFEA26AE0C12234F83BEAB19F52EB5251E287CD9F257AD7D',X'16472787FFDB7978578ADDDC2369053895F3BFFAC2360FAC0574FEF7CB333547');
INSERT INTO "journal" VALUES(34,'2026-11-27T10:25:11.468521159Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'16472787FFDB7978578ADDDC2369053895F3BFFAC2360FAC0574FEF7CB333547',X'ECA86470E4752FCC8ABC74148187FA945636B6F561D88954D7E2C4E7BED20D53');
INSERT INTO "journal" VALUES(35,'2026-11-27T10:25:11.469472745Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'ECA86470E4752FCC8ABC74148187FA945636B6F561D88954D7E2C4E7BED20D53',X'E36EC8A8DFE4B0BB0C071FAB33C0691141BE185D31079BDD33736D101294C366');
INSERT INTO "journal" VALUES(36,'2026-11-27T10:25:11.470465266Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'E36EC8A8DFE4B0BB0C071FAB33C0691141BE185D31079BDD33736D101294C366',X'F90EEB985470165848FE644240CEBDB6111261DB59348515F926B54BE3F61E1B');
INSERT INTO "journal" VALUES(37,'2026-11-27T10:25:11.471532498Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'F90EEB985470165848FE644240CEBDB6111261DB59348515F926B54BE3F61E1B',X'ADF92732DFA4F4B7616C618E290902700194EDE1DBF9EC045686A7824C506FE1');
INSERT INTO "journal" VALUES(38,'2026-11-27T10:25:11.472505674Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'ADF92732DFA4F4B7616C618E290902700194EDE1DBF9EC045686A7824C506FE1',X'49D25C14728DABB2919B2110F3CA81816A5F6B76DAC11AEF1BB1DE76F5247EAE');
INSERT INTO "journal" VALUES(39,'2026-11-27T10:25:11.473489354Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'49D25C14728DABB2919B2110F3CA81816A5F6B76DAC11AEF1BB1DE76F5247EAE',X'9244566DC005C455C6A4A46D0114A1F4D033C596690120A51CBE2F3F5C2CDCD4');
INSERT INTO "journal" VALUES(40,'2026-11-27T10:25:11.47463229Z','service','add export','/instruments','[{"kind":"export","id":1,"after":{"id":1,"path":"/instruments","folderId":2,"rules":[{"id":4,"from":"@dome-hosts"}]}}]',X'9244566DC005C455C6A4A46D0114A1F4D033C596690120A51CBE2F3F5C2CDCD4',X'8D30B95C4D840B047FD8EA03C158B9673FCCBDF29B8154AF9894AAB72359468F');
INSERT INTO "journal" VALUES(41,'2026-11-27T10:25:11.475719965Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3,"permissions":"acl","ownership":"mapped"}}]',X'8D30B95C4D840B047FD8EA03C158B9673FCCBDF29B8154AF9894AAB72359468F',X'649917929E8DCF3C306D61DD2CEB49CBD29D5003212807EE90E4E720B2B10FCD');
INSERT INTO "journal" VALUES(42,'2026-11-27T10:25:11.476753403Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'649917929E8DCF3C306D61DD2CEB49CBD29D5003212807EE90E4E720B2B10FCD',X'A6D5BCDC5978B1ED7D81A90E74617ED0266AAE0AC518D3244AB0FD31C9CB7859');
INSERT INTO "journal" VALUES(43,'2026-11-27T10:25:11.477732151Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'A6D5BCDC5978B1ED7D81A90E74617ED0266AAE0AC518D3244AB0FD31C9CB7859',X'83E7CD0AA53A6AC7B69846C5520E33396BADA58B4DA0BFD1352484A22170CCA2');
INSERT INTO "journal" VALUES(44,'2026-11-27T10:25:11.478745024Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'83E7CD0AA53A6AC7B69846C5520E33396BADA58B4DA0BFD1352484A22170CCA2',X'DC4E502EEBBBE2F29FD7935EE76C5F9DD50BB11976F9E87E14F33C9A47AF6745');
INSERT INTO "journal" VALUES(45,'2026-11-27T10:25:11.479686392Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'DC4E502EEBBBE2F29FD7935EE76C5F9DD50BB11976F9E87E14F33C9A47AF6745',X'EBE8F8584E36BCD7FCF27AA592CDB4DD0F1C19ED7943D425E9C153950A5972E0');
INSERT INTO "journal" VALUES(46,'2026-11-27T10:25:11.480939241Z','service','add export','/plates','[{"kind":"export","id":2,"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'EBE8F8584E36BCD7FCF27AA592CDB4DD0F1C19ED7943D425E9C153950A5972E0',X'03F3FCF08071AFEB25D66D25A41EBC3A12EECF6B05FEA6842CFE0F50F287B902');
INSERT INTO "journal" VALUES(47,'2026-11-27T10:25:11.481946233Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5,"permissions":"acl","ownership":"mapped"}}]',X'03F3FCF08071AFEB25D66D25A41EBC3A12EECF6B05FEA6842CFE0F50F287B902',X'D816091348ED4B78C95CB76DE0970EAFA62A31F57757F93E7D86A61D886828D2');
INSERT INTO "journal" VALUES(48,'2026-11-27T10:25:11.482940007Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'D816091348ED4B78C95CB76DE0970EAFA62A31F57757F93E7D86A61D886828D2',X'A0732076E03E25B3AF99F5F3159BE9ACA926921CCDD7C8EC0A00C69C1CAFE5B6');
INSERT INTO "journal" VALUES(49,'2026-11-27T10:25:11.483955538Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'A0732076E03E25B3AF99F5F3159BE9ACA926921CCDD7C8EC0A00C69C1CAFE5B6',X'CC58C75CF010A71E4E178EE748373056679286C0552A830527DC2EC4E8748B83');
INSERT INTO "journal" VALUES(50,'2026-11-27T10:25:11.484909866Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'CC58C75CF010A71E4E178EE748373056679286C0552A830527DC2EC4E8748B83',X'097C62FC8E4D486BE9855FD8571BEB2D9A19D7C479A917D0DB3E5D4E54B2DA45');
INSERT INTO "journal" VALUES(51,'2026-11-27T10:25:11.486028392Z','service','add export','/visitors','[{"kind":"export","id":3,"after":{"id":3,"path":"/visitors","folderId":4,"rules":[{"id":8,"from":"*","write":true,"squash":"none","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'097C62FC8E4D486BE9855FD8571BEB2D9A19D7C479A917D0DB3E5D4E54B2DA45',X'03B09295553CEC9DBB2DF14BEE5F23CC44FCE26E901F6577923E3237AE784309');
INSERT INTO "journal" VALUES(52,'2026-11-27T10:25:11.487047235Z','service','add folder','scratch','[{"kind":"folder","id":5,"after":{"id":5,"name":"scratch","volumeId":1,"path":"scratch","description":"Room for the reduction hosts; nothing here is kept","owner":11,"group":4,"permissions":"unix","ownership":"mapped"}}]',X'03B09295553CEC9DBB2DF14BEE5F23CC44FCE26E901F6577923E3237AE784309',X'E0B886266B97510588D8C45B8A0A054D7B111693E2E6D19C6DE4A4713369AB8F');
INSERT INTO "journal" VALUES(53,'2026-11-27T10:25:11.488104857Z','service','set mode','scratch','[]',X'E0B886266B97510588D8C45B8A0A054D7B111693E2E6D19C6DE4A4713369AB8F',X'B62659B0FC6FF2D8EE011E8BE37E56632DED8AD5E1C372CF8AA4077D9DAA4F22');
INSERT INTO "journal" VALUES(54,'2026-11-27T10:25:11.489272995Z','service','add export','/scratch','[{"kind":"export","id":4,"after":{"id":4,"path":"/scratch","folderId":5,"rules":[{"id":9,"from":"@reduction-hosts"},{"id":10,"from":"127.0.0.1","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"number"}]}}]',X'B62659B0FC6FF2D8EE011E8BE37E56632DED8AD5E1C372CF8AA4077D9DAA4F22',X'C75F0C2A6E41095AA8D6863638524ED9C6FD065AC24B2389D0F0DA06B463B226');
INSERT INTO "journal" VALUES(55,'2026-11-27T10:25:11.490317397Z','service','add folder','personal','[{"kind":"folder","id":6,"after":{"id":6,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4,"permissions":"acl","ownership":"mapped"}}]',X'C75F0C2A6E41095AA8D6863638524ED9C6FD065AC24B2389D0F0DA06B463B226',X'D54B56839BEBD79969ABD152640937976481D6CC95CCBF3F42A678239310FC75');
INSERT INTO "journal" VALUES(56,'2026-11-27T10:25:11.491447678Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'D54B56839BEBD79969ABD152640937976481D6CC95CCBF3F42A678239310FC75',X'1B35DC86E9251A4A3CA0516EE3F5F31C008A9344B6A163BFDD1E27B23658F116');
INSERT INTO "journal" VALUES(57,'2026-11-27T10:25:11.492547342Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":6,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'1B35DC86E9251A4A3CA0516EE3F5F31C008A9344B6A163BFDD1E27B23658F116',X'60F7D4D8DB79165FE51451B9182BCCD11458895A1662104FB35ACC70B04B6C39');
INSERT INTO "journal" VALUES(58,'2026-11-27T10:25:11.49365945Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":6,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'60F7D4D8DB79165FE51451B9182BCCD11458895A1662104FB35ACC70B04B6C39',X'A2708CC18C318CB00E01DC9238EC1FA701DCA39B944ACB8BCC46520D0A80D0B4');
INSERT INTO "journal" VALUES(59,'2026-11-27T10:25:11.494811692Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":6,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'A2708CC18C318CB00E01DC9238EC1FA701DCA39B944ACB8BCC46520D0A80D0B4',X'3B2D2D4DF041CC4A8A24BE9CBABDD26E6BDB4EBFDD12FF939F0CA5AF90853C4D');
INSERT INTO "journal" VALUES(60,'2026-11-27T10:25:11.496016426Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":6,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'3B2D2D4DF041CC4A8A24BE9CBABDD26E6BDB4EBFDD12FF939F0CA5AF90853C4D',X'A8DF06FC46851EDA4DF4DB7CE2ADA50B4F2A9DD475BB6FCE83084E277E4C760A');
INSERT INTO "journal" VALUES(61,'2026-11-27T10:25:11.497121363Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":6,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'A8DF06FC46851EDA4DF4DB7CE2ADA50B4F2A9DD475BB6FCE83084E277E4C760A',X'DD6B890AF0BA7127A98DB11CDB2FD0BCA2D0556CB3D905D3B85EE182B792336E');
INSERT INTO "journal" VALUES(62,'2026-11-27T10:25:11.498179371Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":6,"announced":true,"listOnlyOpenable":true}}]',X'DD6B890AF0BA7127A98DB11CDB2FD0BCA2D0556CB3D905D3B85EE182B792336E',X'D47FDEEC67C066982557C014AAB8FDEF32BFE7676768814FF2A482D3AA30603A');
INSERT INTO "journal" VALUES(63,'2026-11-27T10:25:11.499228778Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'D47FDEEC67C066982557C014AAB8FDEF32BFE7676768814FF2A482D3AA30603A',X'21619EEF8298F7150F89A23553FC6514C5D6C334B5083960786DCCCA85B90460');
INSERT INTO "journal" VALUES(64,'2026-11-27T10:25:11.500321236Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":6},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'21619EEF8298F7150F89A23553FC6514C5D6C334B5083960786DCCCA85B90460',X'25D2DF8DBB6C28E11E4614C39CE9874C7CC841CCAB59105B9AB49DC7DA7E9F51');
INSERT INTO "journal" VALUES(65,'2026-11-27T10:25:11.501494996Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"},{"id":21,"who":{"kind":1,"id":7},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'25D2DF8DBB6C28E11E4614C39CE9874C7CC841CCAB59105B9AB49DC7DA7E9F51',X'02F48DA1F3CDBCC7A95F73851A6F7D0F264599ECF1BA9796EDE058DB6EE6F64F');
INSERT INTO "journal" VALUES(66,'2026-11-27T10:25:11.502603003Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":22,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'02F48DA1F3CDBCC7A95F73851A6F7D0F264599ECF1BA9796EDE058DB6EE6F64F',X'2CD8B73E4727C6540D5C2147EF4EDA94C7C80F833F2E00EF931657F6C153ECBC');
INSERT INTO "journal" VALUES(67,'2026-11-27T10:25:11.503707998Z','service','add entry','personal','[{"kind":"rule","id":7,"before":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]},"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1},{"id":23,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'2CD8B73E4727C6540D5C2147EF4EDA94C7C80F833F2E00EF931657F6C153ECBC',X'D126CC4F2CBD9CAE03EE57AF9D14F3EFE3755B700F134CC53F069E7B0F8BAF33');
INSERT INTO "journal" VALUES(68,'2026-11-27T10:25:11.50480788Z','service','remember numbers','dome1','[{"kind":"id list","id":1,"after":{"id":1,"host":"dome1","numbers":[{"name":"svc-dome","number":2101},{"name":"tomasz","number":2004},{"name":"piran","number":2002}]}}]',X'D126CC4F2CBD9CAE03EE57AF9D14F3EFE3755B700F134CC53F069E7B0F8BAF33',X'D9F955F328BCD69EA81487B54DCDEEE8E5AB2E704CC701C94823BAE9A9B27D1E');
INSERT INTO "journal" VALUES(69,'2026-11-27T10:25:11.505858096Z','service','switch service on','nfs','[{"kind":"services","id":1,"before":{"smb":true,"nfs":false},"after":{"smb":true,"nfs":true}}]',X'D9F955F328BCD69EA81487B54DCDEEE8E5AB2E704CC701C94823BAE9A9B27D1E',X'6A9BDC1382E61493322DCB0C73012B283CD8373F5B832404E9F9ED1C33A09F17');
INSERT INTO "journal" VALUES(70,'2026-11-27T10:25:11.572187433Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'6A9BDC1382E61493322DCB0C73012B283CD8373F5B832404E9F9ED1C33A09F17',X'2EB6D6809A9052F72510A17DA87A18ED6855A169B1FEA06233423B522E4C82C8');
INSERT INTO "journal" VALUES(71,'2026-11-27T10:25:11.590143088Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":24,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'2EB6D6809A9052F72510A17DA87A18ED6855A169B1FEA06233423B522E4C82C8',X'9FD94BAB0848B6C8AADD860B38E38AF73DE0ADB7049151C84A290ED5AB2BE2C1');
INSERT INTO "journal" VALUES(72,'2026-11-27T10:25:11.608157113Z','keeper','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"},{"id":25,"who":{"kind":1,"id":8},"level":2,"applies":7,"note":"for the spring run"}]}}]',X'9FD94BAB0848B6C8AADD860B38E38AF73DE0ADB7049151C84A290ED5AB2BE2C1',X'0643BFC624D80C41C35012087E5645C4D8716A94345C4870AF3427DE982200C4');
INSERT INTO "journal" VALUES(73,'2026-11-27T10:25:11.625157571Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'0643BFC624D80C41C35012087E5645C4D8716A94345C4870AF3427DE982200C4',X'4B256C3F978A8E4480A9F7FAD7F14E7B3037B919518711F4B486B73F1BE19833');
INSERT INTO "journal" VALUES(74,'2026-11-27T10:25:11.646464362Z','keeper','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'4B256C3F978A8E4480A9F7FAD7F14E7B3037B919518711F4B486B73F1BE19833',X'4F89E974E19B5BAB278219627B1DBD37C5D7BF88078A03C4B2623E406F8131F8');
INSERT INTO "journal" VALUES(75,'2026-11-27T10:25:11.665180763Z','keeper','add client rule','/plates','[{"kind":"export","id":2,"before":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]},"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":11,"from":"192.0.2.99","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'4F89E974E19B5BAB278219627B1DBD37C5D7BF88078A03C4B2623E406F8131F8',X'FFEAEB989EDB2E45D24F0B64402D2FEC25C994D888EC81AA9A167E4C4D1C4124');
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
INSERT INTO "sessions" VALUES(X'A56C8D74DA94B0208A20AF2145082902B2F16E97C64638AA38722B9562EA18FE',1,'2026-11-27T10:25:11Z','2026-11-27T22:25:11Z');
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
) STRICT;
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$lTDKR2X0XpAQmxD1ddMiKg$OuzMpxS/hThxlPEDXj5EynKckZpXSTywIGiRCnpZi6c',X'8D2BB85D2DD8C92027DA2EBDCAA648F5BC3B8CDA83C8E1A91CFB92DCB2E9A04B793F70702BC124702179DEEA');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$KiTxkxzqf01+qRZof2pamg$UKbnRyjFok3BSzG8Z0LbBoxgxWHu8JBn7RR9AnvYuBU',X'9093EFE8C54820EB2E217B3A40C164CCA1106BA3135BD10F6245B55B63E8D7E25AD11435500A68280FDBB5B3');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$tJ8hLWFcPifx+cvH0sBA1w$wAPWlhr1myV/p7vtjm+uUHdyIJJmtQSxcFYI/wJt4WM',X'831CEA8D89252C74681685FD837205953746D03EF9CC45C8519BD575EA7F4513540C901D00D01EB1B03AACB6');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$7EoeTwKm4toHCizwjvCyxg$1xnpgY7NzF+hDJmrWlhjmuPATN3wX4qqM0vB+hu9ZfU',X'F3B38E8913C5D72CBCD8EFD67CFEE18C4A4B3652FDC51334BD0EF025B7FB119C903A561DA096D4E57990C085');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$FkN4Is6IJzLagJvi6n48bw$RqK1f6hPjk38JY10ocQjhb5Uvm4hEtJrjmE4VCnX5sQ',X'1720D07ACC3EE11EAA7FFDE032D60BFF3E1435AD25C619E7350D5314C7EA11D8E7266AFD668C35DF27AA6B1C');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$yk0u8uZWFG2w8yxhA0IJDg$dt5JmM/bdbDAsW7vCTgG2zYBlpIjJPGoLgqjImwSLJ0',X'673BBD0A37A27CD3D3B49380276732C70F30587EDF69334FB1D698BC5F254E3A3911123EBEB932DFA16A08CD');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$y6tuiDm74BOataM2fpttPw$lddhGD7opToL7PMg2nd1AnUYrMKWOAT76NdAIXBzhtI',X'3F1ECA048AAE7BDE725BDD22D0B273C01146D06349F5FA322EFB6326E960E52A43AC99126940EC40F2978176');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$IBP+/Q6KtZvWqCno9VEKMA$kfIUDB8eAHB1wERmaLaAp1DfNcePo/ANh6oPPSsJeHM',X'BA3A71DE739BE566235CD7AC53CBF3E2F8E01156A29CA2133A375561ED840D38E0FC2BD268F19D2CC9E92678');
INSERT INTO "users" VALUES(9,'corin','Corin Vale',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$Mujy7Kng5MEiVEkoW/qGJw$zN0vHjFSQSQH90fQGT/6vDLcjAJaL2JbItG6+NElYjM',X'1B1AD182EEFF84C56A034BFC462E80B1C5047E3FAB7E1E8407C28FBC1A87642E8BF92547F30B15FF3A18DE81');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,3,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$rpCayI4VykO+knuJcqvJXg$U54yUk77HbOA9sdOA+NRDHedLb61StWT03bbTQ90TTc',X'9DE33A65137793067C4D0E39F0E39EB0E480AB03B5AAB6A4AEB5FD48AF2BF765913AFD36B653835F9057540B');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,1,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$xP1QITpkySXYWmDGPTW7+g$rfXuExSgWl3fWyHSjz+P02xud/O7QpnxSOZOTBhmBL8',X'A50AFCB3BDFFC95D357ADD1914CADF2F0972DB327EB40017BCD36E64EABB2575E787D71613A98C2DC7273F78');
INSERT INTO "users" VALUES(12,'lunt','Lunt Harrow',2103,NULL,'',0,0,NULL,1,1,NULL,NULL);
CREATE TABLE volumes (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    path TEXT NOT NULL UNIQUE
) STRICT;
INSERT INTO "volumes" VALUES(1,'summit','/srv/larkfell/state/volumes/summit');
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
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',4);
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
COMMIT;
