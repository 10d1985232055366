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
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 10:25:15');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 10:25:15');
INSERT INTO "goose_db_version" VALUES(3,2,1,'2026-11-27 10:25:15');
INSERT INTO "goose_db_version" VALUES(4,3,1,'2026-11-27 10:25:15');
INSERT INTO "goose_db_version" VALUES(5,4,1,'2026-11-27 10:25:15');
INSERT INTO "goose_db_version" VALUES(6,5,1,'2026-11-27 10:25:15');
INSERT INTO "goose_db_version" VALUES(7,6,1,'2026-11-27 10:25:15');
INSERT INTO "goose_db_version" VALUES(8,7,1,'2026-11-27 10:25:15');
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
INSERT INTO "journal" VALUES(1,'2026-11-27T10:25:15.28033459Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'56326BC06A16BFAD82AFC0EDD019E83FACE4C92B9F517C47998B4F9CC8AA8126');
INSERT INTO "journal" VALUES(2,'2026-11-27T10:25:15.284004997Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'56326BC06A16BFAD82AFC0EDD019E83FACE4C92B9F517C47998B4F9CC8AA8126',X'439E08ED27918F32CBB72B0DEF78A6A64551400D2731A605C1621F9C167EE6B2');
INSERT INTO "journal" VALUES(3,'2026-11-27T10:25:15.28492812Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'439E08ED27918F32CBB72B0DEF78A6A64551400D2731A605C1621F9C167EE6B2',X'98B951F4CBB7EEA1DF77D4CDA6E190B535E231F2D3011EBB9DE5A02831786E5E');
INSERT INTO "journal" VALUES(4,'2026-11-27T10:25:15.285747044Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'98B951F4CBB7EEA1DF77D4CDA6E190B535E231F2D3011EBB9DE5A02831786E5E',X'74452202991CE5AA8C7AF7A521F36905FCE1A92227D0974052EC73BFD7F91F51');
INSERT INTO "journal" VALUES(5,'2026-11-27T10:25:15.286630929Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'74452202991CE5AA8C7AF7A521F36905FCE1A92227D0974052EC73BFD7F91F51',X'645715969343081BA21B291C2B6EC53015D8B6CBC1CAECA4CDC5929C5ADEC454');
INSERT INTO "journal" VALUES(6,'2026-11-27T10:25:15.287435051Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'645715969343081BA21B291C2B6EC53015D8B6CBC1CAECA4CDC5929C5ADEC454',X'60A8FD2B8593DB59CC55C08D9DD23F7BCBDDBE467EFFD1309AA44FA32CF357AD');
INSERT INTO "journal" VALUES(7,'2026-11-27T10:25:15.343081847Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900,"mail":"keeper@larkfell.example"}}]',X'60A8FD2B8593DB59CC55C08D9DD23F7BCBDDBE467EFFD1309AA44FA32CF357AD',X'AB11D0E2AF58D7714C8338B9386D1740812A0550A340C93EEC02AA2ECDA5F347');
INSERT INTO "journal" VALUES(8,'2026-11-27T10:25:15.399632643Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'AB11D0E2AF58D7714C8338B9386D1740812A0550A340C93EEC02AA2ECDA5F347',X'5F17907EA57AB5B864AF68F79B00AA8F51AF1D1A133AD6220D4A375CD46C0870');
INSERT INTO "journal" VALUES(9,'2026-11-27T10:25:15.456654767Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true,"mail":"wren@larkfell.example"}}]',X'5F17907EA57AB5B864AF68F79B00AA8F51AF1D1A133AD6220D4A375CD46C0870',X'15DBE0A5050CC19D640DB56FC747740DE5067F76413725E196F647D61A9C66CA');
INSERT INTO "journal" VALUES(10,'2026-11-27T10:25:15.494437205Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true,"mail":"isolde@larkfell.example"}}]',X'15DBE0A5050CC19D640DB56FC747740DE5067F76413725E196F647D61A9C66CA',X'90DC0D337B4C705C67A5C3BAD2ADCC163CB692F4068CE490D1738CB5A7BD70C2');
INSERT INTO "journal" VALUES(11,'2026-11-27T10:25:15.541573225Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true,"mail":"piran@larkfell.example"}}]',X'90DC0D337B4C705C67A5C3BAD2ADCC163CB692F4068CE490D1738CB5A7BD70C2',X'DC8A9ED8B875CAF54E133DFBEA7C5848F1D2D052D92EA3996154BC5B26CE0471');
INSERT INTO "journal" VALUES(12,'2026-11-27T10:25:15.582837314Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true,"mail":"tomasz@larkfell.example"}}]',X'DC8A9ED8B875CAF54E133DFBEA7C5848F1D2D052D92EA3996154BC5B26CE0471',X'C9AF35438A1E597FC18659B7F137E577788A4C6C6782F1F5BE77A32E509190B3');
INSERT INTO "journal" VALUES(13,'2026-11-27T10:25:15.620499522Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true,"mail":"bettany@larkfell.example"}}]',X'C9AF35438A1E597FC18659B7F137E577788A4C6C6782F1F5BE77A32E509190B3',X'AA24EDCCAD0E49AAE613AA5D29F8212491ED75C3D444FD24344796823B80B05D');
INSERT INTO "journal" VALUES(14,'2026-11-27T10:25:15.658616092Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true,"mail":"orla@larkfell.example"}}]',X'AA24EDCCAD0E49AAE613AA5D29F8212491ED75C3D444FD24344796823B80B05D',X'760A7A0EFF117B072FABDE0A73FB3BC59817F4DCF37F37247A7FC6E0A84CA11B');
INSERT INTO "journal" VALUES(15,'2026-11-27T10:25:15.696088914Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'760A7A0EFF117B072FABDE0A73FB3BC59817F4DCF37F37247A7FC6E0A84CA11B',X'DB54B5D828863B48290CB692A0AFF2F82C40CF0DFF7ADC43AF6BDD45E527C2D5');
INSERT INTO "journal" VALUES(16,'2026-11-27T10:25:15.697081225Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'DB54B5D828863B48290CB692A0AFF2F82C40CF0DFF7ADC43AF6BDD45E527C2D5',X'F44F8377D823DD37AAB1F1E7AB596FCF5A1A3D73C4AB25A73AC437EE0E7DCCCC');
INSERT INTO "journal" VALUES(17,'2026-11-27T10:25:15.733714686Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"primary":3,"service":true,"nfs":true}}]',X'F44F8377D823DD37AAB1F1E7AB596FCF5A1A3D73C4AB25A73AC437EE0E7DCCCC',X'843087920F79415B244D203779D0182B7C15E20C103252FB90B8C371A9C7E281');
INSERT INTO "journal" VALUES(18,'2026-11-27T10:25:15.770911478Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"primary":1,"service":true,"nfs":true}}]',X'843087920F79415B244D203779D0182B7C15E20C103252FB90B8C371A9C7E281',X'440E57AC2864E2118B1304DE6F1D633268277FA2949B6E38043E4A74F59F8905');
INSERT INTO "journal" VALUES(19,'2026-11-27T10:25:15.772033704Z','service','add member svc-dome','archive','[{"kind":"group","id":3,"before":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"},"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive","members":[{"kind":1,"id":10}]}}]',X'440E57AC2864E2118B1304DE6F1D633268277FA2949B6E38043E4A74F59F8905',X'065D1B996D6ABB0C553AADA4DADB03F8DEC3EF77611B7AAEA2FDAAEF064E2EFE');
INSERT INTO "journal" VALUES(20,'2026-11-27T10:25:15.772984495Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'065D1B996D6ABB0C553AADA4DADB03F8DEC3EF77611B7AAEA2FDAAEF064E2EFE',X'DA4DEAD33F05A5231E737977CC6B30E8544D27F4CE2037906FD7D4E492B31BFE');
INSERT INTO "journal" VALUES(21,'2026-11-27T10:25:15.77388746Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'DA4DEAD33F05A5231E737977CC6B30E8544D27F4CE2037906FD7D4E492B31BFE',X'E61948FC033484CF41B78FA45F310D3D02D0E0A60BDA97C1556AC02BC537243F');
INSERT INTO "journal" VALUES(22,'2026-11-27T10:25:15.774764449Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'E61948FC033484CF41B78FA45F310D3D02D0E0A60BDA97C1556AC02BC537243F',X'E33FC5E8C21207E79FB15B1B194CAD26019979B59CB6B35D84FA468274E680AC');
INSERT INTO "journal" VALUES(23,'2026-11-27T10:25:15.77560814Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'E33FC5E8C21207E79FB15B1B194CAD26019979B59CB6B35D84FA468274E680AC',X'C4712553CC54FD82D57B1689C468196F1926BEEEF1DBF16A95AFE36E2E1B1A6E');
INSERT INTO "journal" VALUES(24,'2026-11-27T10:25:15.778316718Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit","counting":"size","mark":"9ff6fc21205588abc65d3ea6e0de6b93"}}]',X'C4712553CC54FD82D57B1689C468196F1926BEEEF1DBF16A95AFE36E2E1B1A6E',X'1F9385D8950C568118EA4A7254FA4A7FC4FC933EB6523274B34E535AF71F9F2D');
INSERT INTO "journal" VALUES(25,'2026-11-27T10:25:15.779706548Z','service','add host set','dome-hosts','[{"kind":"host set","id":1,"after":{"id":1,"name":"dome-hosts","description":"Dome control, on the mountain''s own network","rules":[{"id":1,"from":"192.0.2.16/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":2,"from":"dome*.larkfell.example","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'1F9385D8950C568118EA4A7254FA4A7FC4FC933EB6523274B34E535AF71F9F2D',X'384A871844FAA7A0DAF4CF18D91D48E22D5EC5D57F561158A04E300525FA5677');
INSERT INTO "journal" VALUES(26,'2026-11-27T10:25:15.780826707Z','service','add host set','reduction-hosts','[{"kind":"host set","id":2,"after":{"id":2,"name":"reduction-hosts","description":"Where the raw plates become catalogues","rules":[{"id":3,"from":"192.0.2.32/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'384A871844FAA7A0DAF4CF18D91D48E22D5EC5D57F561158A04E300525FA5677',X'D3D30FB3CC4B7ACC9AB6B098C525BBA2F64B3197577360865EC76D9674DF7DA3');
INSERT INTO "journal" VALUES(27,'2026-11-27T10:25:15.781945391Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1,"permissions":"acl","ownership":"mapped"}}]',X'D3D30FB3CC4B7ACC9AB6B098C525BBA2F64B3197577360865EC76D9674DF7DA3',X'5A3D8C44AF8E598A464B31D5BE24BD81612F91ABB52E199B208F7CB4C1C327AC');
INSERT INTO "journal" VALUES(28,'2026-11-27T10:25:15.783076235Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'5A3D8C44AF8E598A464B31D5BE24BD81612F91ABB52E199B208F7CB4C1C327AC',X'AC3967A827842151C0ED72049733F9A7AB2E3FA27813E498E77AEFE4A68A27F4');
INSERT INTO "journal" VALUES(29,'2026-11-27T10:25:15.784171873Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'AC3967A827842151C0ED72049733F9A7AB2E3FA27813E498E77AEFE4A68A27F4',X'E0B7F4BADE843E9B496AA743F91D96E67938406AE9DDA8423492D35779D7AC3D');
INSERT INTO "journal" VALUES(30,'2026-11-27T10:25:15.785184912Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'E0B7F4BADE843E9B496AA743F91D96E67938406AE9DDA8423492D35779D7AC3D',X'C720368382B479D8DC383B66A4237C3082DFEA6ACFBCBD5DAE5EF87286E55017');
INSERT INTO "journal" VALUES(31,'2026-11-27T10:25:15.786246093Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2,"permissions":"acl","ownership":"mapped"}}]',X'C720368382B479D8DC383B66A4237C3082DFEA6ACFBCBD5DAE5EF87286E55017',X'DADAF53B36F12088C77A471CD90C1556E822DFE57193F5EAF32F2E03C5A3CCD6');
INSERT INTO "journal" VALUES(32,'2026-11-27T10:25:15.787466321Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'DADAF53B36F12088C77A471CD90C1556E822DFE57193F5EAF32F2E03C5A3CCD6',X'891FAC5D9AF8A5A0FAC3B7A156476177A7516CAF77EE506CC61913EBD4DD11B8');
INSERT INTO "journal" VALUES(33,'2026-11-27T10:25:15.788591087Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'891FAC5D9AF8A5A0FAC3B7A156476177A7516CAF77EE506CC61913EBD4DD11B8',X'F1EDCEF7C2F0797912D1607235D6244FE97685C50F1861F3F86DD87C25BD9CAB');
INSERT INTO "journal" VALUES(34,'2026-11-27T10:25:15.789768225Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'F1EDCEF7C2F0797912D1607235D6244FE97685C50F1861F3F86DD87C25BD9CAB',X'A6ACDBDEE379D2571E711B4B2DB6D4EB467AFDB178EB5D7649B8E378C69F3560');
INSERT INTO "journal" VALUES(35,'2026-11-27T10:25:15.790876717Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'A6ACDBDEE379D2571E711B4B2DB6D4EB467AFDB178EB5D7649B8E378C69F3560',X'1FC1C6932229C698C029C7B3EC6363D6E0A2D464D7B2352152867FA6D9B1C929');
INSERT INTO "journal" VALUES(36,'2026-11-27T10:25:15.791979693Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'1FC1C6932229C698C029C7B3EC6363D6E0A2D464D7B2352152867FA6D9B1C929',X'72045E5A2E831D97B8C804D66C679A397FF101B9CD6E28C41FFAC084179A79B7');
INSERT INTO "journal" VALUES(37,'2026-11-27T10:25:15.793052487Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'72045E5A2E831D97B8C804D66C679A397FF101B9CD6E28C41FFAC084179A79B7',X'56FF52A7AF9E2C6875C3F0CC3BF34CBFDE21F5A5B7B2243CD0EB0D7DFEACBD49');
INSERT INTO "journal" VALUES(38,'2026-11-27T10:25:15.794288289Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'56FF52A7AF9E2C6875C3F0CC3BF34CBFDE21F5A5B7B2243CD0EB0D7DFEACBD49',X'3180DB05DCCCE3B1E82E89FD7C13F855A0BCBE3A49E691C2CB1FFA862BDE5B0E');
INSERT INTO "journal" VALUES(39,'2026-11-27T10:25:15.795308903Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'3180DB05DCCCE3B1E82E89FD7C13F855A0BCBE3A49E691C2CB1FFA862BDE5B0E',X'C0B497ABA7B61A0D9AD15B4EAE8E90D28E39D0CA1761C03505AE34C62BBBAFC8');
INSERT INTO "journal" VALUES(40,'2026-11-27T10:25:15.796547481Z','service','add export','/instruments','[{"kind":"export","id":1,"after":{"id":1,"path":"/instruments","folderId":2,"rules":[{"id":4,"from":"@dome-hosts"}]}}]',X'C0B497ABA7B61A0D9AD15B4EAE8E90D28E39D0CA1761C03505AE34C62BBBAFC8',X'F47EB74E6AC4176A510397FB548549B0B5CF91BB53DCC4E74EC88A6A094DE8EE');
INSERT INTO "journal" VALUES(41,'2026-11-27T10:25:15.797708235Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3,"permissions":"acl","ownership":"mapped"}}]',X'F47EB74E6AC4176A510397FB548549B0B5CF91BB53DCC4E74EC88A6A094DE8EE',X'96A6ADD73E1E5D56E391E643EE1C5A0B5341FA875914B7D627FA9731D900960E');
INSERT INTO "journal" VALUES(42,'2026-11-27T10:25:15.798835111Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'96A6ADD73E1E5D56E391E643EE1C5A0B5341FA875914B7D627FA9731D900960E',X'F41A0639330DB167CBEADD660501E60993F874D903DB7470C92D85D7B5757750');
INSERT INTO "journal" VALUES(43,'2026-11-27T10:25:15.800005349Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'F41A0639330DB167CBEADD660501E60993F874D903DB7470C92D85D7B5757750',X'AC99E18339782680DD8472B85E462FFE5F77312CB009D1DBAB55F5C0BE26CD81');
INSERT INTO "journal" VALUES(44,'2026-11-27T10:25:15.801149091Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'AC99E18339782680DD8472B85E462FFE5F77312CB009D1DBAB55F5C0BE26CD81',X'C3F7FF82AF22FAB56809F93F053977C5E64E52C50934B001CCCA78020B718EEE');
INSERT INTO "journal" VALUES(45,'2026-11-27T10:25:15.802257463Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'C3F7FF82AF22FAB56809F93F053977C5E64E52C50934B001CCCA78020B718EEE',X'817F7EDC936BF705F264DBDB1076E133D4244C2EF4510348F6229CABD19E96DD');
INSERT INTO "journal" VALUES(46,'2026-11-27T10:25:15.803714783Z','service','add export','/plates','[{"kind":"export","id":2,"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'817F7EDC936BF705F264DBDB1076E133D4244C2EF4510348F6229CABD19E96DD',X'2B21CF1450F9D3FAD2BCBE6EBA4D6923C627500770DA04C33E5B5CDFE1D17CB5');
INSERT INTO "journal" VALUES(47,'2026-11-27T10:25:15.804949534Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5,"permissions":"acl","ownership":"mapped"}}]',X'2B21CF1450F9D3FAD2BCBE6EBA4D6923C627500770DA04C33E5B5CDFE1D17CB5',X'C8F4FB6D3FBCAD62EEC842ABA8B249C5C6D5CCFC4C13440A928D60E0605CB17C');
INSERT INTO "journal" VALUES(48,'2026-11-27T10:25:15.806143436Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'C8F4FB6D3FBCAD62EEC842ABA8B249C5C6D5CCFC4C13440A928D60E0605CB17C',X'678625B66C3AFBA3C59DA75841161C8144198AB1EB07549B2A30E08D67959B88');
INSERT INTO "journal" VALUES(49,'2026-11-27T10:25:15.80734706Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'678625B66C3AFBA3C59DA75841161C8144198AB1EB07549B2A30E08D67959B88',X'ED476D4612593AF68CF48E9034982268773DAEC9F58F82E017AA3D486FFDC68A');
INSERT INTO "journal" VALUES(50,'2026-11-27T10:25:15.808511244Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'ED476D4612593AF68CF48E9034982268773DAEC9F58F82E017AA3D486FFDC68A',X'0E5C58D755A262AAC791275C5F5B0A486FE81D48C6A0C41BEFE3C4112B442D8C');
INSERT INTO "journal" VALUES(51,'2026-11-27T10:25:15.80974544Z','service','add export','/visitors','[{"kind":"export","id":3,"after":{"id":3,"path":"/visitors","folderId":4,"rules":[{"id":8,"from":"*","write":true,"squash":"none","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'0E5C58D755A262AAC791275C5F5B0A486FE81D48C6A0C41BEFE3C4112B442D8C',X'3F9C868312C264201A9A468CF4F972B92623981DB010CB2AF751D683165315DC');
INSERT INTO "journal" VALUES(52,'2026-11-27T10:25:15.811022544Z','service','add folder','scratch','[{"kind":"folder","id":5,"after":{"id":5,"name":"scratch","volumeId":1,"path":"scratch","description":"Room for the reduction hosts; nothing here is kept","owner":11,"group":4,"permissions":"unix","ownership":"mapped"}}]',X'3F9C868312C264201A9A468CF4F972B92623981DB010CB2AF751D683165315DC',X'D2B3382F15E0A64D4E7914FE2035D9AE3558AF8F93D4DD8EE0C733B6F7F840A6');
INSERT INTO "journal" VALUES(53,'2026-11-27T10:25:15.812215421Z','service','set mode','scratch','[]',X'D2B3382F15E0A64D4E7914FE2035D9AE3558AF8F93D4DD8EE0C733B6F7F840A6',X'FBC143BFB0A6CD14342AE457982B7152B3E613E7709F1B3B5DE9D867BC9E23DC');
INSERT INTO "journal" VALUES(54,'2026-11-27T10:25:15.813551932Z','service','add export','/scratch','[{"kind":"export","id":4,"after":{"id":4,"path":"/scratch","folderId":5,"rules":[{"id":9,"from":"@reduction-hosts"},{"id":10,"from":"127.0.0.1","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"number"}]}}]',X'FBC143BFB0A6CD14342AE457982B7152B3E613E7709F1B3B5DE9D867BC9E23DC',X'4545FC553EB85F7220EE2A5E9FDA602180D33239D5357BE19DDA68063FC4FBFD');
INSERT INTO "journal" VALUES(55,'2026-11-27T10:25:15.814771643Z','service','add folder','personal','[{"kind":"folder","id":6,"after":{"id":6,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4,"permissions":"acl","ownership":"mapped"}}]',X'4545FC553EB85F7220EE2A5E9FDA602180D33239D5357BE19DDA68063FC4FBFD',X'A9E71ED5F50B6102B85237538A7C5194CC9B9AF2405715A9FA9BBC475EB323A3');
INSERT INTO "journal" VALUES(56,'2026-11-27T10:25:15.81607913Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'A9E71ED5F50B6102B85237538A7C5194CC9B9AF2405715A9FA9BBC475EB323A3',X'018369205F4CB6C7D6716CCAC96AC14257273A22F23AC85B124F73A6D11D3F41');
INSERT INTO "journal" VALUES(57,'2026-11-27T10:25:15.817353885Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":6,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'018369205F4CB6C7D6716CCAC96AC14257273A22F23AC85B124F73A6D11D3F41',X'3D3EB3A52B325A0F44A63A370B501FFE767CEAB034DA6A6A1D168E48CBF6C162');
INSERT INTO "journal" VALUES(58,'2026-11-27T10:25:15.818647363Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":6,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'3D3EB3A52B325A0F44A63A370B501FFE767CEAB034DA6A6A1D168E48CBF6C162',X'4B9AC99EE30758A742DF8F00C4B48BDD2EA329B3C1A22DB71D9A4E94BBAB9CE2');
INSERT INTO "journal" VALUES(59,'2026-11-27T10:25:15.81993626Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":6,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'4B9AC99EE30758A742DF8F00C4B48BDD2EA329B3C1A22DB71D9A4E94BBAB9CE2',X'42AB6F40454F31ED792A6BDDA94F2CBFBC5A5094E6A2E464F286A62CF761EC16');
INSERT INTO "journal" VALUES(60,'2026-11-27T10:25:15.821243482Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":6,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'42AB6F40454F31ED792A6BDDA94F2CBFBC5A5094E6A2E464F286A62CF761EC16',X'208F3C9E74BB4DB42C808DB3E59A223138FCAABB2115DE477DE1ED0DA2DFC719');
INSERT INTO "journal" VALUES(61,'2026-11-27T10:25:15.822572565Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":6,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'208F3C9E74BB4DB42C808DB3E59A223138FCAABB2115DE477DE1ED0DA2DFC719',X'D61354B75F4859FE4F377D8359F4EC877FE307A12857B69039400CD272CA992B');
INSERT INTO "journal" VALUES(62,'2026-11-27T10:25:15.823786117Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":6,"announced":true,"listOnlyOpenable":true}}]',X'D61354B75F4859FE4F377D8359F4EC877FE307A12857B69039400CD272CA992B',X'5EA49A490F1B0C6FC991118E0E47B8F2DF9319F9DB6537AC8C6F0D7B7DFFBA3A');
INSERT INTO "journal" VALUES(63,'2026-11-27T10:25:15.825044684Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'5EA49A490F1B0C6FC991118E0E47B8F2DF9319F9DB6537AC8C6F0D7B7DFFBA3A',X'946623F2A2F01B3BF5DBEB2593C64D15A9A0BE188907C2F95CBE62BAFA09CCE8');
INSERT INTO "journal" VALUES(64,'2026-11-27T10:25:15.826351516Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":6},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'946623F2A2F01B3BF5DBEB2593C64D15A9A0BE188907C2F95CBE62BAFA09CCE8',X'31C672BED897DCCEF8C59CD5B51B230BD66658D96008DDD8BC7E91106F427A93');
INSERT INTO "journal" VALUES(65,'2026-11-27T10:25:15.827622064Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"},{"id":21,"who":{"kind":1,"id":7},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'31C672BED897DCCEF8C59CD5B51B230BD66658D96008DDD8BC7E91106F427A93',X'6B2046D6E9FD62262E427D1DDAF12EEE55A9A3002BF4379C3127263A70A8AF1A');
INSERT INTO "journal" VALUES(66,'2026-11-27T10:25:15.828898042Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":22,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'6B2046D6E9FD62262E427D1DDAF12EEE55A9A3002BF4379C3127263A70A8AF1A',X'1F9363A106B5B1BA4517FD460BCD8B1D0821AE63B4B109FCAE96A5D0C2964468');
INSERT INTO "journal" VALUES(67,'2026-11-27T10:25:15.83030284Z','service','add entry','personal','[{"kind":"rule","id":7,"before":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]},"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1},{"id":23,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'1F9363A106B5B1BA4517FD460BCD8B1D0821AE63B4B109FCAE96A5D0C2964468',X'218DCD15C480C0A60487BF4983885A93E7ED8C95D43F8D15494A02B3756C1297');
INSERT INTO "journal" VALUES(68,'2026-11-27T10:25:15.831549589Z','service','remember numbers','dome1','[{"kind":"id list","id":1,"after":{"id":1,"host":"dome1","numbers":[{"name":"svc-dome","number":2101},{"name":"tomasz","number":2004},{"name":"piran","number":2002}]}}]',X'218DCD15C480C0A60487BF4983885A93E7ED8C95D43F8D15494A02B3756C1297',X'97460F481874138A1C737A5F01948BE274173F75DAEB341282652C03B55D6B69');
INSERT INTO "journal" VALUES(69,'2026-11-27T10:25:15.832905469Z','service','give to bettany and group archive','personal/bettany/plate-index.dat','[]',X'97460F481874138A1C737A5F01948BE274173F75DAEB341282652C03B55D6B69',X'2CBBBA7929AA3F65C0CCE7C744873B915DFFBA9F1FBE1FFE28EE6C003756AC8E');
INSERT INTO "journal" VALUES(70,'2026-11-27T10:25:15.834248924Z','service','give to piran and group observers','personal/piran/allsky-2026-03.dat','[]',X'2CBBBA7929AA3F65C0CCE7C744873B915DFFBA9F1FBE1FFE28EE6C003756AC8E',X'0C25FF4FD7487F74FCA85B6AED7044C139DF8EEEB61B424F90CBB8EAD30FEABF');
INSERT INTO "journal" VALUES(71,'2026-11-27T10:25:15.83556311Z','service','give to isolde and group observers','personal/isolde/spectra.dat','[]',X'0C25FF4FD7487F74FCA85B6AED7044C139DF8EEEB61B424F90CBB8EAD30FEABF',X'F3665A42AD2817D0D0D47DE88F41D55C0DAC4D016A234F8644DCF9B5D1541121');
INSERT INTO "journal" VALUES(72,'2026-11-27T10:25:15.836833331Z','service','give to tomasz and group engineers','personal/tomasz/bench.dat','[]',X'F3665A42AD2817D0D0D47DE88F41D55C0DAC4D016A234F8644DCF9B5D1541121',X'74F6861A5C2A22B059C6DBC1330A62F9FDB2DE2F87B80A515641FC7CDE1D1D3B');
INSERT INTO "journal" VALUES(73,'2026-11-27T10:25:15.838142277Z','service','give to orla and group visitors','visitors/orla-field.dat','[]',X'74F6861A5C2A22B059C6DBC1330A62F9FDB2DE2F87B80A515641FC7CDE1D1D3B',X'B21129D5F16AB27BFD4EF06594B729C439ACBBB60CA3A9FBD6745B8473CEF0C4');
INSERT INTO "journal" VALUES(74,'2026-11-27T10:25:15.839414146Z','service','give to svc-reduce and group staff','scratch/2026-03/stack.dat','[]',X'B21129D5F16AB27BFD4EF06594B729C439ACBBB60CA3A9FBD6745B8473CEF0C4',X'3BEA95B1E4F04AAFEA30EE4F22E6C465B7D6745EF49B78C5FBB79570DF03D8D0');
INSERT INTO "journal" VALUES(75,'2026-11-27T10:25:15.840783064Z','service','set limit','user bettany','[{"kind":"limit","id":1,"after":{"id":1,"kind":"user","user":7,"hardBytes":5000000,"graceSeconds":604800}}]',X'3BEA95B1E4F04AAFEA30EE4F22E6C465B7D6745EF49B78C5FBB79570DF03D8D0',X'2CF95D2A975F5AB7AF13E515AE08C0DC85DD395A35E9A1CE74E42D2F55D51E5D');
INSERT INTO "journal" VALUES(76,'2026-11-27T10:25:15.842115957Z','service','set limit','user piran','[{"kind":"limit","id":2,"after":{"id":2,"kind":"user","user":5,"softBytes":2000000,"hardBytes":4000000,"graceSeconds":604800}}]',X'2CF95D2A975F5AB7AF13E515AE08C0DC85DD395A35E9A1CE74E42D2F55D51E5D',X'E4CB476D2B53D5860C9AE631672BB49A454AF3479853A948D95B4BCC41C16E6E');
INSERT INTO "journal" VALUES(77,'2026-11-27T10:25:15.843417515Z','service','set limit','user svc-reduce in scratch','[{"kind":"limit","id":3,"after":{"id":3,"kind":"user","user":11,"folderId":5,"hardBytes":1000000,"graceSeconds":604800}}]',X'E4CB476D2B53D5860C9AE631672BB49A454AF3479853A948D95B4BCC41C16E6E',X'7762A44542AC59C8CE77CE7253BCD3522598E72AD4266F0DFD6CEB5273FF504E');
INSERT INTO "journal" VALUES(78,'2026-11-27T10:25:15.844763729Z','service','set limit','default of visitors in visitors','[{"kind":"limit","id":4,"after":{"id":4,"kind":"default","group":5,"folderId":4,"hardBytes":500000,"graceSeconds":604800}}]',X'7762A44542AC59C8CE77CE7253BCD3522598E72AD4266F0DFD6CEB5273FF504E',X'9391CEDE26D4C83F2D76D937552D0C71FE92CDC56C7DD23FA34550A5F6BD0706');
INSERT INTO "journal" VALUES(79,'2026-11-27T10:25:15.846075138Z','service','set limit','folder nightlog','[{"kind":"limit","id":5,"after":{"id":5,"kind":"folder","folderId":1,"softBytes":2500000,"hardBytes":3000000,"graceSeconds":259200}}]',X'9391CEDE26D4C83F2D76D937552D0C71FE92CDC56C7DD23FA34550A5F6BD0706',X'38ECADD2C29B0178DCE2B65EF1C895165157F1D5025752E43ACB5AF433BCA38C');
INSERT INTO "journal" VALUES(80,'2026-11-27T10:25:15.847507858Z','service','set limit','folder plates','[{"kind":"limit","id":6,"after":{"id":6,"kind":"folder","folderId":3,"hardBytes":20000000,"graceSeconds":604800}}]',X'38ECADD2C29B0178DCE2B65EF1C895165157F1D5025752E43ACB5AF433BCA38C',X'67FAA71717C9D5ED9CDF43A561DDF0BC741DBA40FD51C5D3372377BBFE64785A');
INSERT INTO "journal" VALUES(81,'2026-11-27T10:25:15.848875308Z','service','set limit','folder plates/2026','[{"kind":"limit","id":7,"after":{"id":7,"kind":"folder","folderId":3,"path":"2026","hardBytes":10000000,"hardFiles":2000,"graceSeconds":604800}}]',X'67FAA71717C9D5ED9CDF43A561DDF0BC741DBA40FD51C5D3372377BBFE64785A',X'C6A69DA49406566C36C2C966B430600CE2C14C36DD1E907155556D7E8BF311C7');
INSERT INTO "journal" VALUES(82,'2026-11-27T10:25:15.850141997Z','service','switch service on','nfs','[{"kind":"services","id":1,"before":{"smb":true,"nfs":false},"after":{"smb":true,"nfs":true}}]',X'C6A69DA49406566C36C2C966B430600CE2C14C36DD1E907155556D7E8BF311C7',X'DD62DB3CA55115456D85168AA03CAEA8AFF349A63BE8D520065C5A3948D30798');
INSERT INTO "journal" VALUES(83,'2026-11-27T10:25:15.852165704Z','service','change notices','notices','[{"kind":"notices","id":1,"after":{"percent":null,"mail":{"server":"127.0.0.1:38119","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf9BTCplUwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTVaFw0zNjExMjcxMDI1MTVa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAARrElhOO0R1ZijAGQlAOeN4QfU0DIxAzWvV5PPIM/1E9t1Lz/KytXe7\ngVIFzJZWCH1TsMqmyGabTZBm9adO2sqfo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQU//vN40qNedRDicWtbTAspDz/a4YwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIAxnm+aLUjnCYkSUjJIWggLFh6EiDbnfjizYS1TryE3jAiEA\npsJYCzAnGs3rSQd/RaRSc7Spc+IQqJBnFqh9FivbhMI=\n-----END CERTIFICATE-----\n"}}}]',X'DD62DB3CA55115456D85168AA03CAEA8AFF349A63BE8D520065C5A3948D30798',X'22087AF15F5C35971416FB96CA4D00D7769A75596505008DA7BF1E564404ACE5');
INSERT INTO "journal" VALUES(84,'2026-11-27T10:25:15.90419754Z','service','tell','bettany: 4.7 MB in use, 90 % or more of the hard limit of 5 MB.','[]',X'22087AF15F5C35971416FB96CA4D00D7769A75596505008DA7BF1E564404ACE5',X'11D1731E17563D694AD1BD370612727AE29A8D1A7866BC43A93B059003CE6415');
INSERT INTO "journal" VALUES(85,'2026-11-27T10:25:15.904260366Z','service','tell','piran: 2.3 MB in use, more than the soft limit of 2 MB; nothing can grow from 4 December 2026, 10:25 UTC on, unless there is less by then.','[]',X'11D1731E17563D694AD1BD370612727AE29A8D1A7866BC43A93B059003CE6415',X'DD53AE4B75E5DBD61B180912DDD2F2C5589CED61CFA0B9D7C26351DD22E8BAFA');
INSERT INTO "journal" VALUES(86,'2026-11-27T10:25:15.904297977Z','service','tell','svc-reduce: 1 MB in use, which is all of the hard limit of 1 MB; nothing can grow. The limit is that of user svc-reduce in scratch.','[]',X'DD53AE4B75E5DBD61B180912DDD2F2C5589CED61CFA0B9D7C26351DD22E8BAFA',X'6D9AD781A8ADB2F7CD0E338A1975F6B2AF09CC5C927D72B5DD976CA126923A03');
INSERT INTO "journal" VALUES(87,'2026-11-27T10:25:16.239992347Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'6D9AD781A8ADB2F7CD0E338A1975F6B2AF09CC5C927D72B5DD976CA126923A03',X'BB1F36E5584B48C050C0492F8DE9F0B5A2B7FEA62E480DDAB9A12BD26F786269');
INSERT INTO "journal" VALUES(88,'2026-11-27T10:25:16.263814089Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":24,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'BB1F36E5584B48C050C0492F8DE9F0B5A2B7FEA62E480DDAB9A12BD26F786269',X'B80BDB92B5483754F19938E590EBD6E9D738350820BD07079760744AE9205BB2');
INSERT INTO "journal" VALUES(89,'2026-11-27T10:25:16.287882095Z','keeper','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"},{"id":25,"who":{"kind":1,"id":8},"level":2,"applies":7,"note":"for the spring run"}]}}]',X'B80BDB92B5483754F19938E590EBD6E9D738350820BD07079760744AE9205BB2',X'12D839F4146827345963DB916B14383A37E65C5C9D7DE0D8FC07D62A44488EAD');
INSERT INTO "journal" VALUES(90,'2026-11-27T10:25:16.316196123Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'12D839F4146827345963DB916B14383A37E65C5C9D7DE0D8FC07D62A44488EAD',X'3D0AA91B9BDDEE3DB3C099B1DC22E3D828240AE74B1681EFC248FAC32D4BA9F5');
INSERT INTO "journal" VALUES(91,'2026-11-27T10:25:16.348611219Z','keeper','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'3D0AA91B9BDDEE3DB3C099B1DC22E3D828240AE74B1681EFC248FAC32D4BA9F5',X'6B0B85039121B4DDCD2676179D03FE2C1D86C987A99F97F01653D5FF5069135E');
INSERT INTO "journal" VALUES(92,'2026-11-27T10:25:16.381201663Z','keeper','add client rule','/plates','[{"kind":"export","id":2,"before":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]},"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":11,"from":"192.0.2.99","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'6B0B85039121B4DDCD2676179D03FE2C1D86C987A99F97F01653D5FF5069135E',X'E3E9583AD48751F59DFF0819EE3A340FE2C9CEE0F24EB2E294D82B1FD1940076');
INSERT INTO "journal" VALUES(93,'2026-11-27T10:25:16.410392995Z','keeper','set limit','user wren','[{"kind":"limit","id":8,"after":{"id":8,"kind":"user","user":3,"hardBytes":2000000000,"graceSeconds":604800}}]',X'E3E9583AD48751F59DFF0819EE3A340FE2C9CEE0F24EB2E294D82B1FD1940076',X'CEACC87AAB1719138F0B29E449F4BBB5FAB32E4ECFF0481D8BB4328371018426');
INSERT INTO "journal" VALUES(94,'2026-11-27T10:25:16.427946954Z','keeper','change notices','notices','[{"kind":"notices","id":1,"before":{"percent":null,"mail":{"server":"127.0.0.1:38119","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf9BTCplUwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTVaFw0zNjExMjcxMDI1MTVa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAARrElhOO0R1ZijAGQlAOeN4QfU0DIxAzWvV5PPIM/1E9t1Lz/KytXe7\ngVIFzJZWCH1TsMqmyGabTZBm9adO2sqfo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQU//vN40qNedRDicWtbTAspDz/a4YwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIAxnm+aLUjnCYkSUjJIWggLFh6EiDbnfjizYS1TryE3jAiEA\npsJYCzAnGs3rSQd/RaRSc7Spc+IQqJBnFqh9FivbhMI=\n-----END CERTIFICATE-----\n"}},"after":{"percent":[75,100],"mail":{"server":"127.0.0.1:38119","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf9BTCplUwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTVaFw0zNjExMjcxMDI1MTVa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAARrElhOO0R1ZijAGQlAOeN4QfU0DIxAzWvV5PPIM/1E9t1Lz/KytXe7\ngVIFzJZWCH1TsMqmyGabTZBm9adO2sqfo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQU//vN40qNedRDicWtbTAspDz/a4YwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIAxnm+aLUjnCYkSUjJIWggLFh6EiDbnfjizYS1TryE3jAiEA\npsJYCzAnGs3rSQd/RaRSc7Spc+IQqJBnFqh9FivbhMI=\n-----END CERTIFICATE-----\n"}}}]',X'CEACC87AAB1719138F0B29E449F4BBB5FAB32E4ECFF0481D8BB4328371018426',X'DAC896E16106B59AD0D59D1E3980BC0474C5188FC585BA58CF1B4F2D1EF98A52');
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
INSERT INTO "notices" VALUES(1,'{"percent":[75,100],"mail":{"server":"127.0.0.1:38119","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBnDCCAUKgAwIBAgIIGOvf9BTCplUwCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTVaFw0zNjExMjcxMDI1MTVa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAARrElhOO0R1ZijAGQlAOeN4QfU0DIxAzWvV5PPIM/1E9t1Lz/KytXe7\ngVIFzJZWCH1TsMqmyGabTZBm9adO2sqfo3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQU//vN40qNedRDicWtbTAspDz/a4YwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0gAMEUCIAxnm+aLUjnCYkSUjJIWggLFh6EiDbnfjizYS1TryE3jAiEA\npsJYCzAnGs3rSQd/RaRSc7Spc+IQqJBnFqh9FivbhMI=\n-----END CERTIFICATE-----\n"}}',NULL);
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
INSERT INTO "sessions" VALUES(X'51D3936C9616700D567822AB2763C2995F8AFFDDFE7DB575B90F9C185FD20F23',1,'2026-11-27T10:25:16Z','2026-11-27T22:25:16Z');
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
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$EqUFWttbYz53UocwZY/HcA$yn9S4PEmWppCBDEwu+QdBCq4EfPIdqScC7ZUTrmicow',X'14C8D073B9DD08CDC485ABE1AF0D4C81AB813A65428768EE40FEF5810AE5939CA6FF57714FDDE7109DB71C54','keeper@larkfell.example');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$DgJWnFMNYzj/DE9WmhnbJw$XUGaZme1N0fqaVnXeT5D3LP8fdEum1TwCGioLP83Wkw',X'43543306EA77742C58EF80413A89B9179665A5FEC2E0FF2B4D6EDFAABFB053AD23446D36B49AD8D29A177C33','');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$bR/uTDwmjOsurltb9XmWXg$Rd0QJTfbJeuaIVyc+8VemBt/4FN/TetEFUqLKuSl/EM',X'AD9561CBBB12284BCB6A854F28E94A5AFE5EB56EADAFBA9078FD460CA3593AD8EDCEF6DA82D73A1541BE68B1','wren@larkfell.example');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$/kRprxIL6VE41t00OVLTqQ$QrmRr4j5uvj8T5TrrPJeLPkwrxedpBqGSKrS2bMzDXI',X'AD856FC8D05531646EAE928BBDF88F82A044B70FCE5950C7F7199BA934F48101C5593ABA83DB88FA6F084672','isolde@larkfell.example');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$OzqyvzxaoZf8vBVUEwB5+w$ToPk8VAawmXGhGmXynfBJrJWgXrbgiQweNAwJZY2YdQ',X'112C8C426431D705220B482DE60B02C52ACF6E7E32DE77858779D2350907BEE00BE3ED8C8C359D56C2191FD1','piran@larkfell.example');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$D2qAPz3+fwOivyn48f2NpA$K0y8Fedn2WczJFDvdGoRpb61DBv/m/sdEJtISUt2ano',X'5EFEFA6339B44DC1B93B46162546CEC135A488F252D762372C025A0F80FC19DDF9C128777170D8CB5ADD8778','tomasz@larkfell.example');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$905sga1j7DbWrCh5dUKn1g$YGhn/UKC1Vk5Q4IgLIfZdAM04Zv/Wm7jkelWrVjbS74',X'255D6028CD2BF2A83F7A07886B6EA04860898C6733B8E71C2B3E947082C0F2E5FD8D943365B0CF341716F6B2','bettany@larkfell.example');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$uQfq1GxFJT14YJq0vyPfpg$mC/3tPYZi34NVQA+My1FNbhGM6TarubHH3FYyMtZuOA',X'1F288326C963E2ABEA5F408849D1C7EA1F186C1EC6A91FE33203655528A6A977E116C7BF5DD722106C127914','orla@larkfell.example');
INSERT INTO "users" VALUES(9,'corin','Corin Vale',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$OrQTU+AxOAaKZ7rRjmFD0A$8cxnsVG6SBBdlcQBlzYV7s5mK3Kn1D/QkSW/OV8W8uQ',X'EBC4239C417F950EF98338F284ADF9C3F966CD88D465BCAF867070C449977128333B5CE14F0E4F20F6E0523E','');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,3,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$Qj/5HRx/9URgc3QlR03aJQ$I86wkDyee8Q/60CaasBD64REWel12EO1jRXcl0IYIMQ',X'18313E51627A0BA25320812315479632BD8C9D0E1ED04BB0DE4E1774AA0BBABBEFE773EFFF6161D8ADF7253C','');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,1,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$JFsmyeO/EDBrjKWKmgULxg$2NFKWnSONQCBd+/vZc9ba41wWcbd213AICqdVXlz50k',X'2C57682064A339D31CDB0747CCC4C0DE8214D4DEA5053ADB9BBD73747E3049FCC5F2EA0307AED8D458BD4137','');
INSERT INTO "users" VALUES(12,'lunt','Lunt Harrow',2103,NULL,'',0,0,NULL,1,1,NULL,NULL,'');
CREATE TABLE volumes (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    path TEXT NOT NULL UNIQUE
, counting TEXT NOT NULL DEFAULT 'off' CHECK (counting IN ('off', 'size', 'allocated')), mark TEXT NOT NULL DEFAULT '') STRICT;
INSERT INTO "volumes" VALUES(1,'summit','/srv/larkfell/state/volumes/summit','size','9ff6fc21205588abc65d3ea6e0de6b93');
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
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',8);
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
