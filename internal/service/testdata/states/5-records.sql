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
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 10:25:12');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 10:25:12');
INSERT INTO "goose_db_version" VALUES(3,2,1,'2026-11-27 10:25:12');
INSERT INTO "goose_db_version" VALUES(4,3,1,'2026-11-27 10:25:12');
INSERT INTO "goose_db_version" VALUES(5,4,1,'2026-11-27 10:25:12');
INSERT INTO "goose_db_version" VALUES(6,5,1,'2026-11-27 10:25:12');
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
INSERT INTO "id_lists" VALUES(1,'dome1','[{"name":"piran","number":2002},{"name":"svc-dome","number":2101},{"name":"tomasz","number":2004}]');
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
INSERT INTO "journal" VALUES(1,'2026-11-27T10:25:12.878576689Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'D417E7DB2BD3D25D4AB97999CAF516CDCFCDD0FF00FFA94FDA5DC173BBAB28E5');
INSERT INTO "journal" VALUES(2,'2026-11-27T10:25:12.882077287Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'D417E7DB2BD3D25D4AB97999CAF516CDCFCDD0FF00FFA94FDA5DC173BBAB28E5',X'DF798663AB841B07E586402B5D5BE03EA605E5DAC1D616903795AE2F1434CDFA');
INSERT INTO "journal" VALUES(3,'2026-11-27T10:25:12.882835744Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'DF798663AB841B07E586402B5D5BE03EA605E5DAC1D616903795AE2F1434CDFA',X'A867539B3E0E4E784D6D8CEAC58F223B530A935C626CB0235FCCD43244348424');
INSERT INTO "journal" VALUES(4,'2026-11-27T10:25:12.883614737Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'A867539B3E0E4E784D6D8CEAC58F223B530A935C626CB0235FCCD43244348424',X'F4087FA3C1DC13D48121712163B205F968166508CB598672A1C1C9788F22C689');
INSERT INTO "journal" VALUES(5,'2026-11-27T10:25:12.884409684Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'F4087FA3C1DC13D48121712163B205F968166508CB598672A1C1C9788F22C689',X'40C056414E9D0EECBEE3168B6E02777CB05121CD199E42EFF2157865ECD2650C');
INSERT INTO "journal" VALUES(6,'2026-11-27T10:25:12.885133698Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'40C056414E9D0EECBEE3168B6E02777CB05121CD199E42EFF2157865ECD2650C',X'CEBCF2B673C0F09499D70308271519085B731A0C9C2AD1CE87198B848C2FE69F');
INSERT INTO "journal" VALUES(7,'2026-11-27T10:25:12.942164769Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900,"mail":"keeper@larkfell.example"}}]',X'CEBCF2B673C0F09499D70308271519085B731A0C9C2AD1CE87198B848C2FE69F',X'A8A05E05E9D7E396F1F19DD18C6DC02695308C2B1D30E1504F97B1BFC6194FFE');
INSERT INTO "journal" VALUES(8,'2026-11-27T10:25:12.99971346Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'A8A05E05E9D7E396F1F19DD18C6DC02695308C2B1D30E1504F97B1BFC6194FFE',X'C592993F6F90D932C78FDDB97B454FCE7A63330F9D3C64A545DC2DCF2F70B9D6');
INSERT INTO "journal" VALUES(9,'2026-11-27T10:25:13.058455791Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true,"mail":"wren@larkfell.example"}}]',X'C592993F6F90D932C78FDDB97B454FCE7A63330F9D3C64A545DC2DCF2F70B9D6',X'EE726222A95B427319552C5A04E95001B2CAB0FF008597B9ECC5DD69FA747AC4');
INSERT INTO "journal" VALUES(10,'2026-11-27T10:25:13.096423586Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true,"mail":"isolde@larkfell.example"}}]',X'EE726222A95B427319552C5A04E95001B2CAB0FF008597B9ECC5DD69FA747AC4',X'8C03148128F298DFF81983D8A8A9DBE1B6740C7B02A52BC154522E1FB1405341');
INSERT INTO "journal" VALUES(11,'2026-11-27T10:25:13.1362161Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true,"mail":"piran@larkfell.example"}}]',X'8C03148128F298DFF81983D8A8A9DBE1B6740C7B02A52BC154522E1FB1405341',X'5A163E771D24E478067AF25EB58C4B81429B58647E70ABDD13212501D30BA739');
INSERT INTO "journal" VALUES(12,'2026-11-27T10:25:13.17534887Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true,"mail":"tomasz@larkfell.example"}}]',X'5A163E771D24E478067AF25EB58C4B81429B58647E70ABDD13212501D30BA739',X'D8149193C502787D8449EAB2AB6D417C96FCE3E4823B7CF7C1A65B045BD3F6F1');
INSERT INTO "journal" VALUES(13,'2026-11-27T10:25:13.214761925Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true,"mail":"bettany@larkfell.example"}}]',X'D8149193C502787D8449EAB2AB6D417C96FCE3E4823B7CF7C1A65B045BD3F6F1',X'2600A334179AFE03FCEBCD936F24DDF0AC1F5BAAC1429449D4A361986E007FB4');
INSERT INTO "journal" VALUES(14,'2026-11-27T10:25:13.253145027Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true,"mail":"orla@larkfell.example"}}]',X'2600A334179AFE03FCEBCD936F24DDF0AC1F5BAAC1429449D4A361986E007FB4',X'60D8A5ACD1B97A395976CC36A069032B3CA9D4EC3011568FA5239C7067B5D77D');
INSERT INTO "journal" VALUES(15,'2026-11-27T10:25:13.292320255Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'60D8A5ACD1B97A395976CC36A069032B3CA9D4EC3011568FA5239C7067B5D77D',X'00AA04C4F45B5FF689903F6BADE8C58CD4612BA30C67B8D15701D245C0786C25');
INSERT INTO "journal" VALUES(16,'2026-11-27T10:25:13.293640712Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'00AA04C4F45B5FF689903F6BADE8C58CD4612BA30C67B8D15701D245C0786C25',X'5002F04AEFA419B947B8E9066480365E20520899E0544A0E9C085B9BC46E919A');
INSERT INTO "journal" VALUES(17,'2026-11-27T10:25:13.3322219Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"primary":3,"service":true,"nfs":true}}]',X'5002F04AEFA419B947B8E9066480365E20520899E0544A0E9C085B9BC46E919A',X'8079F3598378700E95F3A65AD99A671CEC908BC15D5A87CBB230806829B55046');
INSERT INTO "journal" VALUES(18,'2026-11-27T10:25:13.3714551Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"primary":1,"service":true,"nfs":true}}]',X'8079F3598378700E95F3A65AD99A671CEC908BC15D5A87CBB230806829B55046',X'6990E893491A7C5691B7404B7FA56AAA4F71210551C2B1155557760BB1515C47');
INSERT INTO "journal" VALUES(19,'2026-11-27T10:25:13.37257007Z','service','add member svc-dome','archive','[{"kind":"group","id":3,"before":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"},"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive","members":[{"kind":1,"id":10}]}}]',X'6990E893491A7C5691B7404B7FA56AAA4F71210551C2B1155557760BB1515C47',X'F10E43038BD8D79029532E89CBAF04E67FB8ACD8B9C4283CD9890F33CFE0D4E3');
INSERT INTO "journal" VALUES(20,'2026-11-27T10:25:13.373482758Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'F10E43038BD8D79029532E89CBAF04E67FB8ACD8B9C4283CD9890F33CFE0D4E3',X'FF947415533D82C435723ECB8D4ED4628367D5980E77B49D46F14EBD5D8FAD08');
INSERT INTO "journal" VALUES(21,'2026-11-27T10:25:13.37438588Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'FF947415533D82C435723ECB8D4ED4628367D5980E77B49D46F14EBD5D8FAD08',X'6D62A0CBE207911485BC1C75139A564DE50D12D13C236759175C1DA285D496D0');
INSERT INTO "journal" VALUES(22,'2026-11-27T10:25:13.375253852Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'6D62A0CBE207911485BC1C75139A564DE50D12D13C236759175C1DA285D496D0',X'A28E73C0FDCD0F6F6D30867BC075F58C54A696428EAD5E9C51F93B4FE22FCF60');
INSERT INTO "journal" VALUES(23,'2026-11-27T10:25:13.376114981Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'A28E73C0FDCD0F6F6D30867BC075F58C54A696428EAD5E9C51F93B4FE22FCF60',X'B64AC6C3B47589B3F1528BCD7F1C5C8DE488824FACDA85F4A682D625E6A0144D');
INSERT INTO "journal" VALUES(24,'2026-11-27T10:25:13.378372638Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit","counting":"size"}}]',X'B64AC6C3B47589B3F1528BCD7F1C5C8DE488824FACDA85F4A682D625E6A0144D',X'98AE138A0A9B8043B02D3ACAB64D259A8019561812750F49177AB546B519A308');
INSERT INTO "journal" VALUES(25,'2026-11-27T10:25:13.379709634Z','service','add host set','dome-hosts','[{"kind":"host set","id":1,"after":{"id":1,"name":"dome-hosts","description":"Dome control, on the mountain''s own network","rules":[{"id":1,"from":"192.0.2.16/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":2,"from":"dome*.larkfell.example","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'98AE138A0A9B8043B02D3ACAB64D259A8019561812750F49177AB546B519A308',X'FEDF3F135FC906AC79EAD0EE2DC6294ADF01627E984FC9EA8FAFAF79FE969BC7');
INSERT INTO "journal" VALUES(26,'2026-11-27T10:25:13.380849Z','service','add host set','reduction-hosts','[{"kind":"host set","id":2,"after":{"id":2,"name":"reduction-hosts","description":"Where the raw plates become catalogues","rules":[{"id":3,"from":"192.0.2.32/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'FEDF3F135FC906AC79EAD0EE2DC6294ADF01627E984FC9EA8FAFAF79FE969BC7',X'A42DA23465EBEFA10205D098C8363156504C3C9F79915AC259D3B49B81B19313');
INSERT INTO "journal" VALUES(27,'2026-11-27T10:25:13.381895426Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1,"permissions":"acl","ownership":"mapped"}}]',X'A42DA23465EBEFA10205D098C8363156504C3C9F79915AC259D3B49B81B19313',X'0C95BF5348530FF6DFA17F60252C420BA6DD394494DF9E2E34854FF127ED40BB');
INSERT INTO "journal" VALUES(28,'2026-11-27T10:25:13.383069622Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'0C95BF5348530FF6DFA17F60252C420BA6DD394494DF9E2E34854FF127ED40BB',X'C55B7FBCD9B318C61C539DCF923B13557F39662B10A462D9A6F671330DEE9739');
INSERT INTO "journal" VALUES(29,'2026-11-27T10:25:13.384137578Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'C55B7FBCD9B318C61C539DCF923B13557F39662B10A462D9A6F671330DEE9739',X'1A9F465A2B62F3369ECC3E2C3172E0D88EA88C920E8E904DB4888D5835CF6782');
INSERT INTO "journal" VALUES(30,'2026-11-27T10:25:13.385119762Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'1A9F465A2B62F3369ECC3E2C3172E0D88EA88C920E8E904DB4888D5835CF6782',X'F61040EAE4209B3289721F054B22FD27DD8F21B52192B70B86205CD49176FE92');
INSERT INTO "journal" VALUES(31,'2026-11-27T10:25:13.386117655Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2,"permissions":"acl","ownership":"mapped"}}]',X'F61040EAE4209B3289721F054B22FD27DD8F21B52192B70B86205CD49176FE92',X'9A30241CF08402C25964030C9EDFCE8A5E54CA3C06AD6E1EBB0A257470479A95');
INSERT INTO "journal" VALUES(32,'2026-11-27T10:25:13.387253318Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'9A30241CF08402C25964030C9EDFCE8A5E54CA3C06AD6E1EBB0A257470479A95',X'05316B05D758BDD63AA024D787F02285ECEFCA455B621FE3D500D7B93B6C6987');
INSERT INTO "journal" VALUES(33,'2026-11-27T10:25:13.388333157Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'05316B05D758BDD63AA024D787F02285ECEFCA455B621FE3D500D7B93B6C6987',X'2489301964A6A0B8993C7C2441336BD7B6081775D84DD75D2A7F99395B1B3A13');
INSERT INTO "journal" VALUES(34,'2026-11-27T10:25:13.389377852Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'2489301964A6A0B8993C7C2441336BD7B6081775D84DD75D2A7F99395B1B3A13',X'B82EED75EB07377093365DCE7A0386BC2B236FB68CFC9E6603A76D590B171AFD');
INSERT INTO "journal" VALUES(35,'2026-11-27T10:25:13.390431636Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'B82EED75EB07377093365DCE7A0386BC2B236FB68CFC9E6603A76D590B171AFD',X'904B0B861D705639CBD6F833F752620FF1B53AB8DDCA569EFAC40B78364A6615');
INSERT INTO "journal" VALUES(36,'2026-11-27T10:25:13.391579653Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'904B0B861D705639CBD6F833F752620FF1B53AB8DDCA569EFAC40B78364A6615',X'A2D5D01679DAFABB6A1D3CA72D13AD3952E8EF0867E928374CA45F6355914178');
INSERT INTO "journal" VALUES(37,'2026-11-27T10:25:13.392600801Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'A2D5D01679DAFABB6A1D3CA72D13AD3952E8EF0867E928374CA45F6355914178',X'48AD9D86E8A59AA354C28FEC7B2D81203A8DF5F24D93DA2AB9E1808F282C40C1');
INSERT INTO "journal" VALUES(38,'2026-11-27T10:25:13.393657302Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'48AD9D86E8A59AA354C28FEC7B2D81203A8DF5F24D93DA2AB9E1808F282C40C1',X'8DFD151E8B63183BE94CB19796C6AAD0ECDE7C2D51ACBB95363315D5B75BFC15');
INSERT INTO "journal" VALUES(39,'2026-11-27T10:25:13.39475745Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'8DFD151E8B63183BE94CB19796C6AAD0ECDE7C2D51ACBB95363315D5B75BFC15',X'52456FB57FEB51E80BD11B38518440A42BEEAC6A4FCA73EC4000B2F399A1AB7E');
INSERT INTO "journal" VALUES(40,'2026-11-27T10:25:13.396001996Z','service','add export','/instruments','[{"kind":"export","id":1,"after":{"id":1,"path":"/instruments","folderId":2,"rules":[{"id":4,"from":"@dome-hosts"}]}}]',X'52456FB57FEB51E80BD11B38518440A42BEEAC6A4FCA73EC4000B2F399A1AB7E',X'0F22E90E5DB02DBFE6C5B454FA5C7B08A8AEA970D78739DA3CE26F7BF380C80B');
INSERT INTO "journal" VALUES(41,'2026-11-27T10:25:13.397128476Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3,"permissions":"acl","ownership":"mapped"}}]',X'0F22E90E5DB02DBFE6C5B454FA5C7B08A8AEA970D78739DA3CE26F7BF380C80B',X'C804653327086FEA5F51CACC77BAAB111AE00532554C35F50AB6A41492AFD74E');
INSERT INTO "journal" VALUES(42,'2026-11-27T10:25:13.398196005Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'C804653327086FEA5F51CACC77BAAB111AE00532554C35F50AB6A41492AFD74E',X'D164F99B7291EE24AD50EC58548B3BAD6E143826B27B7E08209AC1FEEEECC1E8');
INSERT INTO "journal" VALUES(43,'2026-11-27T10:25:13.399317506Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'D164F99B7291EE24AD50EC58548B3BAD6E143826B27B7E08209AC1FEEEECC1E8',X'C9F58E2792C64372032E8E2F94AD331E68E57C4556BD0F4F1736D8E1B4181F8E');
INSERT INTO "journal" VALUES(44,'2026-11-27T10:25:13.400403398Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'C9F58E2792C64372032E8E2F94AD331E68E57C4556BD0F4F1736D8E1B4181F8E',X'6D4DCB22D9893327FA5D98C7468531D61FEEBCF1232AD4AEC7A702117B383061');
INSERT INTO "journal" VALUES(45,'2026-11-27T10:25:13.401468929Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'6D4DCB22D9893327FA5D98C7468531D61FEEBCF1232AD4AEC7A702117B383061',X'EEC37BA9D4926088FC0796A894454856F2C7B85C5029C845B8EAB1C638166D3B');
INSERT INTO "journal" VALUES(46,'2026-11-27T10:25:13.402936913Z','service','add export','/plates','[{"kind":"export","id":2,"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'EEC37BA9D4926088FC0796A894454856F2C7B85C5029C845B8EAB1C638166D3B',X'E4B42C7FCB2332888D0D9C69B604858D365AD04892FA905A0D1A14C3C5C49C85');
INSERT INTO "journal" VALUES(47,'2026-11-27T10:25:13.404085888Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5,"permissions":"acl","ownership":"mapped"}}]',X'E4B42C7FCB2332888D0D9C69B604858D365AD04892FA905A0D1A14C3C5C49C85',X'316E4A7CB6DBBE12559A68C636B1B07DC0916F21EB4222054BB6408EDC1B37B7');
INSERT INTO "journal" VALUES(48,'2026-11-27T10:25:13.405202029Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'316E4A7CB6DBBE12559A68C636B1B07DC0916F21EB4222054BB6408EDC1B37B7',X'4868FFC8550B9D138CDA158A870EFBEFA5D5C5EE1364CD5C55B42061902EC4C9');
INSERT INTO "journal" VALUES(49,'2026-11-27T10:25:13.406342777Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'4868FFC8550B9D138CDA158A870EFBEFA5D5C5EE1364CD5C55B42061902EC4C9',X'DA621C37594B07D3691159D0BD74B927819C6186C19369FFBDE85116F4B2E17F');
INSERT INTO "journal" VALUES(50,'2026-11-27T10:25:13.407433643Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'DA621C37594B07D3691159D0BD74B927819C6186C19369FFBDE85116F4B2E17F',X'13F30D4FA9662EF3E04E58885C7D7D26C4CBDE698E023D1062F82E8B4B030FC4');
INSERT INTO "journal" VALUES(51,'2026-11-27T10:25:13.408677848Z','service','add export','/visitors','[{"kind":"export","id":3,"after":{"id":3,"path":"/visitors","folderId":4,"rules":[{"id":8,"from":"*","write":true,"squash":"none","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'13F30D4FA9662EF3E04E58885C7D7D26C4CBDE698E023D1062F82E8B4B030FC4',X'FB5D7D31669006C778442CC57F448CEC4692C07A63FB3ECDBC1F15F0A13CABB4');
INSERT INTO "journal" VALUES(52,'2026-11-27T10:25:13.409854685Z','service','add folder','scratch','[{"kind":"folder","id":5,"after":{"id":5,"name":"scratch","volumeId":1,"path":"scratch","description":"Room for the reduction hosts; nothing here is kept","owner":11,"group":4,"permissions":"unix","ownership":"mapped"}}]',X'FB5D7D31669006C778442CC57F448CEC4692C07A63FB3ECDBC1F15F0A13CABB4',X'D84AF0C1D59A89DEFF13EB7891449CEA15F647795CE8212C76B060AC2548819C');
INSERT INTO "journal" VALUES(53,'2026-11-27T10:25:13.410997197Z','service','set mode','scratch','[]',X'D84AF0C1D59A89DEFF13EB7891449CEA15F647795CE8212C76B060AC2548819C',X'DD813F8124023787389C0C9E041D54FEE9FF877850D563F1AD03D2B44EF7944C');
INSERT INTO "journal" VALUES(54,'2026-11-27T10:25:13.412274524Z','service','add export','/scratch','[{"kind":"export","id":4,"after":{"id":4,"path":"/scratch","folderId":5,"rules":[{"id":9,"from":"@reduction-hosts"},{"id":10,"from":"127.0.0.1","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"number"}]}}]',X'DD813F8124023787389C0C9E041D54FEE9FF877850D563F1AD03D2B44EF7944C',X'11C6B7EA8E369D1FBAF971C11F1F1145E91C6E88C1FCE60D0F8BA1B940BD2D6E');
INSERT INTO "journal" VALUES(55,'2026-11-27T10:25:13.41342354Z','service','add folder','personal','[{"kind":"folder","id":6,"after":{"id":6,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4,"permissions":"acl","ownership":"mapped"}}]',X'11C6B7EA8E369D1FBAF971C11F1F1145E91C6E88C1FCE60D0F8BA1B940BD2D6E',X'D68310FCF432B7A201471E2FB4ECF488A5DCAE3FB5B0C06CBCECA7D9F7849F0A');
INSERT INTO "journal" VALUES(56,'2026-11-27T10:25:13.414697923Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'D68310FCF432B7A201471E2FB4ECF488A5DCAE3FB5B0C06CBCECA7D9F7849F0A',X'0E6F6819D7D01DEF49FAB18AD568293B4DEE80E31307EF5C888879D05D424810');
INSERT INTO "journal" VALUES(57,'2026-11-27T10:25:13.415908632Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":6,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'0E6F6819D7D01DEF49FAB18AD568293B4DEE80E31307EF5C888879D05D424810',X'BAFEF158E20E1506FC55F7704AD5D575065AF6E29155E28D0161A84A2040662F');
INSERT INTO "journal" VALUES(58,'2026-11-27T10:25:13.417129095Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":6,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'BAFEF158E20E1506FC55F7704AD5D575065AF6E29155E28D0161A84A2040662F',X'25990E07C9DEFB5E195320EF1953F72F34046760643A83E1746606D67BD2666D');
INSERT INTO "journal" VALUES(59,'2026-11-27T10:25:13.418400749Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":6,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'25990E07C9DEFB5E195320EF1953F72F34046760643A83E1746606D67BD2666D',X'D862641E7E9C0DAB6B25EE40158126CDAD76F1EFDFFDE99BAF08816D6249722E');
INSERT INTO "journal" VALUES(60,'2026-11-27T10:25:13.419631581Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":6,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'D862641E7E9C0DAB6B25EE40158126CDAD76F1EFDFFDE99BAF08816D6249722E',X'5AE6ACF127CB28CEDE69A192A24A64D30C73FE256A25D670029206271E79545B');
INSERT INTO "journal" VALUES(61,'2026-11-27T10:25:13.420888666Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":6,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'5AE6ACF127CB28CEDE69A192A24A64D30C73FE256A25D670029206271E79545B',X'5F6F7C5566131A9E6BA0F4AD6E74091D03DF35C0CCAC8F4C3179C29CCD13BA00');
INSERT INTO "journal" VALUES(62,'2026-11-27T10:25:13.422078668Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":6,"announced":true,"listOnlyOpenable":true}}]',X'5F6F7C5566131A9E6BA0F4AD6E74091D03DF35C0CCAC8F4C3179C29CCD13BA00',X'EF53AED1A754986C4755A789C541813A226635B2DB6ED2B6EDB3B8D5E2ECA635');
INSERT INTO "journal" VALUES(63,'2026-11-27T10:25:13.423241916Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'EF53AED1A754986C4755A789C541813A226635B2DB6ED2B6EDB3B8D5E2ECA635',X'A19BD018C7149B0454CE8F2F623C44DCB6A27BEAF7E0881035C90CD1875AFD53');
INSERT INTO "journal" VALUES(64,'2026-11-27T10:25:13.424494638Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":6},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'A19BD018C7149B0454CE8F2F623C44DCB6A27BEAF7E0881035C90CD1875AFD53',X'C2E159A93756A78173B5D892310A015C8F1253B710A667D85F33367C846B8E0E');
INSERT INTO "journal" VALUES(65,'2026-11-27T10:25:13.425695275Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"},{"id":21,"who":{"kind":1,"id":7},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'C2E159A93756A78173B5D892310A015C8F1253B710A667D85F33367C846B8E0E',X'09BEAFD818C8A61E933E48FFF2B97DC90E7B4D6063CE64BA8EA879F515066340');
INSERT INTO "journal" VALUES(66,'2026-11-27T10:25:13.42689097Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":22,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'09BEAFD818C8A61E933E48FFF2B97DC90E7B4D6063CE64BA8EA879F515066340',X'CC5E9CF0F1240EBC57A77184F3ECE4D16CE663BC11BBC0843EE42251A78D9CCE');
INSERT INTO "journal" VALUES(67,'2026-11-27T10:25:13.428180064Z','service','add entry','personal','[{"kind":"rule","id":7,"before":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]},"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1},{"id":23,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'CC5E9CF0F1240EBC57A77184F3ECE4D16CE663BC11BBC0843EE42251A78D9CCE',X'15B26B2AF6DB57C372C8A748C79CC0E286F4A4AFB9DB00ADBAB334119B5B18E7');
INSERT INTO "journal" VALUES(68,'2026-11-27T10:25:13.42965284Z','service','remember numbers','dome1','[{"kind":"id list","id":1,"after":{"id":1,"host":"dome1","numbers":[{"name":"piran","number":2002},{"name":"svc-dome","number":2101},{"name":"tomasz","number":2004}]}}]',X'15B26B2AF6DB57C372C8A748C79CC0E286F4A4AFB9DB00ADBAB334119B5B18E7',X'510C793D5C7647CC33F02C4F86F8A73CFA70A0F40B738CA8D73124250029421F');
INSERT INTO "journal" VALUES(69,'2026-11-27T10:25:13.431095134Z','service','give to bettany and group archive','personal/bettany/plate-index.dat','[]',X'510C793D5C7647CC33F02C4F86F8A73CFA70A0F40B738CA8D73124250029421F',X'929AED4EDE777A4EDA7739CE092E279FF5B662F3138A4A929683797FC8AE5396');
INSERT INTO "journal" VALUES(70,'2026-11-27T10:25:13.432397435Z','service','give to piran and group observers','personal/piran/allsky-2026-03.dat','[]',X'929AED4EDE777A4EDA7739CE092E279FF5B662F3138A4A929683797FC8AE5396',X'780783FE4E34139041D4B56E30144CC7DA03D937BB9752C2FEE5BE9E96C8A206');
INSERT INTO "journal" VALUES(71,'2026-11-27T10:25:13.433607713Z','service','give to isolde and group observers','personal/isolde/spectra.dat','[]',X'780783FE4E34139041D4B56E30144CC7DA03D937BB9752C2FEE5BE9E96C8A206',X'3B0170B3E0930518FC769DE4E628F4007337E2BF242A22942F11892D0C0641B6');
INSERT INTO "journal" VALUES(72,'2026-11-27T10:25:13.434801901Z','service','give to tomasz and group engineers','personal/tomasz/bench.dat','[]',X'3B0170B3E0930518FC769DE4E628F4007337E2BF242A22942F11892D0C0641B6',X'CA2E98E29F0BD0D88CEA99AB2A25C3EB7D77BC55821E34105F2FBCFE876A07B3');
INSERT INTO "journal" VALUES(73,'2026-11-27T10:25:13.436018495Z','service','give to orla and group visitors','visitors/orla-field.dat','[]',X'CA2E98E29F0BD0D88CEA99AB2A25C3EB7D77BC55821E34105F2FBCFE876A07B3',X'1BA10AB31377B191BD8A4A944717E46104739178281C77EDC069D518BBFC3ACD');
INSERT INTO "journal" VALUES(74,'2026-11-27T10:25:13.437239816Z','service','give to svc-reduce and group staff','scratch/2026-03/stack.dat','[]',X'1BA10AB31377B191BD8A4A944717E46104739178281C77EDC069D518BBFC3ACD',X'C9500D82A6B814EE07E206D109CFB5F17B506CA7D1F59CD294A619ADC138ED2A');
INSERT INTO "journal" VALUES(75,'2026-11-27T10:25:13.438522913Z','service','set limit','user bettany','[{"kind":"limit","id":1,"after":{"id":1,"kind":"user","user":7,"hardBytes":5000000,"graceSeconds":604800}}]',X'C9500D82A6B814EE07E206D109CFB5F17B506CA7D1F59CD294A619ADC138ED2A',X'580C2BB6186E985CAF4B8075B15CAA09D63DC3F02B6394C097D11A190CA94448');
INSERT INTO "journal" VALUES(76,'2026-11-27T10:25:13.439784681Z','service','set limit','user piran','[{"kind":"limit","id":2,"after":{"id":2,"kind":"user","user":5,"softBytes":2000000,"hardBytes":4000000,"graceSeconds":604800}}]',X'580C2BB6186E985CAF4B8075B15CAA09D63DC3F02B6394C097D11A190CA94448',X'F29A8714A9AA9A1A1DC3800CF2C912E59546046FAA9B6E33916CFA791A03B698');
INSERT INTO "journal" VALUES(77,'2026-11-27T10:25:13.441045828Z','service','set limit','user svc-reduce in scratch','[{"kind":"limit","id":3,"after":{"id":3,"kind":"user","user":11,"folderId":5,"hardBytes":1000000,"graceSeconds":604800}}]',X'F29A8714A9AA9A1A1DC3800CF2C912E59546046FAA9B6E33916CFA791A03B698',X'5F670610D38EC404FC295AFE49BEEBF86D32C23E8C17DB6F1FB4C1898FEDB5EF');
INSERT INTO "journal" VALUES(78,'2026-11-27T10:25:13.442325554Z','service','set limit','default of visitors in visitors','[{"kind":"limit","id":4,"after":{"id":4,"kind":"default","group":5,"folderId":4,"hardBytes":500000,"graceSeconds":604800}}]',X'5F670610D38EC404FC295AFE49BEEBF86D32C23E8C17DB6F1FB4C1898FEDB5EF',X'623EA21FD4143724400CDDAB76A62BADBA5400A3B430CB5942B25B2BDFA83E00');
INSERT INTO "journal" VALUES(79,'2026-11-27T10:25:13.443592635Z','service','set limit','folder nightlog','[{"kind":"limit","id":5,"after":{"id":5,"kind":"folder","folderId":1,"softBytes":2500000,"hardBytes":3000000,"graceSeconds":259200}}]',X'623EA21FD4143724400CDDAB76A62BADBA5400A3B430CB5942B25B2BDFA83E00',X'20207A54AE4AF23DEE996E529FCA0EA1267E849121FD3C184381E00DD270BA76');
INSERT INTO "journal" VALUES(80,'2026-11-27T10:25:13.444869638Z','service','set limit','folder plates','[{"kind":"limit","id":6,"after":{"id":6,"kind":"folder","folderId":3,"hardBytes":20000000,"graceSeconds":604800}}]',X'20207A54AE4AF23DEE996E529FCA0EA1267E849121FD3C184381E00DD270BA76',X'5E601DDE7D0F3F46CA948FB4768BCEA2148840EE32F96AA226E332C4593119C0');
INSERT INTO "journal" VALUES(81,'2026-11-27T10:25:13.446185773Z','service','set limit','folder plates/2026','[{"kind":"limit","id":7,"after":{"id":7,"kind":"folder","folderId":3,"path":"2026","hardBytes":10000000,"hardFiles":2000,"graceSeconds":604800}}]',X'5E601DDE7D0F3F46CA948FB4768BCEA2148840EE32F96AA226E332C4593119C0',X'8F0DCEF6099E69D7E9AEFFE993B14632D6081C9367C2EACCA3367450B1D151D4');
INSERT INTO "journal" VALUES(82,'2026-11-27T10:25:13.447379558Z','service','switch service on','nfs','[{"kind":"services","id":1,"before":{"smb":true,"nfs":false},"after":{"smb":true,"nfs":true}}]',X'8F0DCEF6099E69D7E9AEFFE993B14632D6081C9367C2EACCA3367450B1D151D4',X'39B4B2D2EA7691A78CD689FAEEC8081C4370601B4A13E3E6483584B6460C7365');
INSERT INTO "journal" VALUES(83,'2026-11-27T10:25:13.449562142Z','service','change notices','notices','[{"kind":"notices","id":1,"after":{"percent":null,"mail":{"server":"127.0.0.1:37087","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvf84WKqH8wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTNaFw0zNjExMjcxMDI1MTNa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAReG9l9SU6ZNmQK3D8o6KEx9KdD/r9du1sGg0YnhcX1rltuzyeMW7JS\nPiHMKeAqjdYKM7RS+hP3hg0SARyGFIX3o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUBqbs6xv/VOep9gVS07xNWfGyj0cwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIAKLqUQuY8Vh5ou4bGdtdkSUyyAkmZLppyaoe5oVk+bJAiAh\nvHfjSBwLdSun9rt/MpwnnV2+FCNitFtVVqUCTVZHAQ==\n-----END CERTIFICATE-----\n"}}}]',X'39B4B2D2EA7691A78CD689FAEEC8081C4370601B4A13E3E6483584B6460C7365',X'11768C203CEBC21157B54EAAA5CA613CAD97EDC1283FED37974EB1856CAA52CE');
INSERT INTO "journal" VALUES(84,'2026-11-27T10:25:13.501954263Z','service','tell','bettany: 4.7 MB in use, 90 % or more of the hard limit of 5 MB.','[]',X'11768C203CEBC21157B54EAAA5CA613CAD97EDC1283FED37974EB1856CAA52CE',X'DF1C003376E1DE9BE30B7FEC2143B60EC415CAD387475D62E0F5CEC7F06330F7');
INSERT INTO "journal" VALUES(85,'2026-11-27T10:25:13.502035291Z','service','tell','piran: 2.3 MB in use, more than the soft limit of 2 MB; nothing can grow from 4 December 2026, 10:25 UTC on, unless there is less by then.','[]',X'DF1C003376E1DE9BE30B7FEC2143B60EC415CAD387475D62E0F5CEC7F06330F7',X'E710AFDC69268382123DE97985FEED8157BC8C5E6C5C7EDD62E512E4E7044034');
INSERT INTO "journal" VALUES(86,'2026-11-27T10:25:13.502074001Z','service','tell','svc-reduce: 1 MB in use, which is all of the hard limit of 1 MB; nothing can grow. The limit is that of user svc-reduce in scratch.','[]',X'E710AFDC69268382123DE97985FEED8157BC8C5E6C5C7EDD62E512E4E7044034',X'E4E36A3AE88B84CE2BF076914FAA88A311A1DA33B365830D3F43A184A925086A');
INSERT INTO "journal" VALUES(87,'2026-11-27T10:25:13.821769179Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'E4E36A3AE88B84CE2BF076914FAA88A311A1DA33B365830D3F43A184A925086A',X'ED72294E6370E32529D2773A9A402B307D442BD4453F8253179A3182F88E290C');
INSERT INTO "journal" VALUES(88,'2026-11-27T10:25:13.841071331Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":24,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'ED72294E6370E32529D2773A9A402B307D442BD4453F8253179A3182F88E290C',X'9B9C049591FA193E845F233A74D97DD030CD5383D4C0C27E11CA054792FD093E');
INSERT INTO "journal" VALUES(89,'2026-11-27T10:25:13.859363636Z','keeper','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"},{"id":25,"who":{"kind":1,"id":8},"level":2,"applies":7,"note":"for the spring run"}]}}]',X'9B9C049591FA193E845F233A74D97DD030CD5383D4C0C27E11CA054792FD093E',X'40ED4FA4B3D81C9730F9C2B9C978F34FDB991ED258189B73BF452245AEBADE74');
INSERT INTO "journal" VALUES(90,'2026-11-27T10:25:13.877221886Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'40ED4FA4B3D81C9730F9C2B9C978F34FDB991ED258189B73BF452245AEBADE74',X'E2F0175B0B6B8C850E3E6D7B644AF66673A79604F3A36E37EBB53A66AC4D673D');
INSERT INTO "journal" VALUES(91,'2026-11-27T10:25:13.895321098Z','keeper','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'E2F0175B0B6B8C850E3E6D7B644AF66673A79604F3A36E37EBB53A66AC4D673D',X'2F64885790AC885BCF3C28B85A02184DDD3B1C4D0F67CA11AEA8703BB7B9780A');
INSERT INTO "journal" VALUES(92,'2026-11-27T10:25:13.913800419Z','keeper','add client rule','/plates','[{"kind":"export","id":2,"before":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]},"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":11,"from":"192.0.2.99","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'2F64885790AC885BCF3C28B85A02184DDD3B1C4D0F67CA11AEA8703BB7B9780A',X'B07E044DF79F458D678EE61617587502AA53EDC55D565A024524CB8E1D0FC2FE');
INSERT INTO "journal" VALUES(93,'2026-11-27T10:25:13.931987882Z','keeper','set limit','user wren','[{"kind":"limit","id":8,"after":{"id":8,"kind":"user","user":3,"hardBytes":2000000000,"graceSeconds":604800}}]',X'B07E044DF79F458D678EE61617587502AA53EDC55D565A024524CB8E1D0FC2FE',X'4969EFA7337E011416519157026CB3002B3FD7160655D21E7D8FC9D94790F909');
INSERT INTO "journal" VALUES(94,'2026-11-27T10:25:13.948551113Z','keeper','change notices','notices','[{"kind":"notices","id":1,"before":{"percent":null,"mail":{"server":"127.0.0.1:37087","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvf84WKqH8wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTNaFw0zNjExMjcxMDI1MTNa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAReG9l9SU6ZNmQK3D8o6KEx9KdD/r9du1sGg0YnhcX1rltuzyeMW7JS\nPiHMKeAqjdYKM7RS+hP3hg0SARyGFIX3o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUBqbs6xv/VOep9gVS07xNWfGyj0cwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIAKLqUQuY8Vh5ou4bGdtdkSUyyAkmZLppyaoe5oVk+bJAiAh\nvHfjSBwLdSun9rt/MpwnnV2+FCNitFtVVqUCTVZHAQ==\n-----END CERTIFICATE-----\n"}},"after":{"percent":[75,100],"mail":{"server":"127.0.0.1:37087","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvf84WKqH8wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTNaFw0zNjExMjcxMDI1MTNa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAReG9l9SU6ZNmQK3D8o6KEx9KdD/r9du1sGg0YnhcX1rltuzyeMW7JS\nPiHMKeAqjdYKM7RS+hP3hg0SARyGFIX3o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUBqbs6xv/VOep9gVS07xNWfGyj0cwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIAKLqUQuY8Vh5ou4bGdtdkSUyyAkmZLppyaoe5oVk+bJAiAh\nvHfjSBwLdSun9rt/MpwnnV2+FCNitFtVVqUCTVZHAQ==\n-----END CERTIFICATE-----\n"}}}]',X'4969EFA7337E011416519157026CB3002B3FD7160655D21E7D8FC9D94790F909',X'9C30487B82AE2A410AF9E48BF713013FF3A5BBC7EB5C79874F394E026FB9A635');
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
INSERT INTO "notices" VALUES(1,'{"percent":[75,100],"mail":{"server":"127.0.0.1:37087","security":"starttls","from":"files@larkfell.example","trust":"-----BEGIN CERTIFICATE-----\nMIIBmzCCAUKgAwIBAgIIGOvf84WKqH8wCgYIKoZIzj0EAwIwGzEZMBcGA1UEAxMQ\ncG9zdGJveCwgbWFkZSB1cDAeFw0yNjExMjcwOTI1MTNaFw0zNjExMjcxMDI1MTNa\nMBsxGTAXBgNVBAMTEHBvc3Rib3gsIG1hZGUgdXAwWTATBgcqhkjOPQIBBggqhkjO\nPQMBBwNCAAReG9l9SU6ZNmQK3D8o6KEx9KdD/r9du1sGg0YnhcX1rltuzyeMW7JS\nPiHMKeAqjdYKM7RS+hP3hg0SARyGFIX3o3AwbjAOBgNVHQ8BAf8EBAMCAoQwDwYD\nVR0TAQH/BAUwAwEB/zAdBgNVHQ4EFgQUBqbs6xv/VOep9gVS07xNWfGyj0cwLAYD\nVR0RBCUwI4IJbG9jYWxob3N0hwR/AAABhxAAAAAAAAAAAAAAAAAAAAABMAoGCCqG\nSM49BAMCA0cAMEQCIAKLqUQuY8Vh5ou4bGdtdkSUyyAkmZLppyaoe5oVk+bJAiAh\nvHfjSBwLdSun9rt/MpwnnV2+FCNitFtVVqUCTVZHAQ==\n-----END CERTIFICATE-----\n"}}',NULL);
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
INSERT INTO "sessions" VALUES(X'7A2216F586911CFC7AD8DEC6DAD672802B0E9B31E5238E5FEDFB06B7C2ABA6C3',1,'2026-11-27T10:25:13Z','2026-11-27T22:25:13Z');
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
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$y3u0sX/zkE67zWb4PvFIEQ$597EkO9GG/pUUPUiHxrBFtpPm1vPsZmRRsQi4DtqPTk',X'0F0D48D127AB117D51F829C21F176204A8404B584F68CC25B7B0A869B1D1A2B1C25792D2B7B2C948B9C56F3E','keeper@larkfell.example');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$wxStKnNhsUAb7Tj82PMEdg$Flra6y9KWBPCcOADM1l9bicoqKAOjk7n91rfgwG66ds',X'E8C11408F324A4806E576D1D6085215C429D7B9A56A9C120CFD8D1FA838D2DCAA0A3F12392025130A2EE2155','');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$/e2DEfFEerAS7x1Ir1uvpw$o09Z0yAm47o5J7LpIEFjhivbBPaoyqwSxyAMe11lFd0',X'846FBA21D69751FB230F2C3A2D06EBDC10B2D15F46B5F73F5AE349F060CC9BD0A0CEDD4C60FFD4F2A1E5FFC8','wren@larkfell.example');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$9TEuNmEhqSCsf4cUabmXhA$0CTkSLKOQpiIm0c7RD1YXrqaNO17wvn9MJ48P/RyEmw',X'CE7DBF2C2BB5A05ED2404498C9297FFAECC6C046FD3A84A3F11221C6560F948E2D0F2A9E9B50138761ABB3B8','isolde@larkfell.example');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$pPfJq5XqoFSONnY5fACoOA$XoEdUJzeHTmwCVLego4zKnbTEo6frzSWZN0I5x3ggLY',X'296E5B409FC064DBEFB14CEF9E68CE1B3D01818DD671615378AC60F53E830745DCEB8223F90F8A390B8519B2','piran@larkfell.example');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$mfSu9l51Tsik2Hs5qOrT7Q$o2LGb82T2tW/URWOjY0W8W0f6pBZL8lkIWD/pt2tIu0',X'7073EDCA74B1F3667303F6DFBA8F73F27CC39E7F14601EB7F8F8468395069CAB8B0045818E6BD26CE453E9E0','tomasz@larkfell.example');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$wyHdSKh2PNwZZqIsjRsjmA$ISu0CpUsI8r0MNad+Add+E7hu5+NcuBC9Od0AcFDuUw',X'9A56581374769814FECF2EF224125B99BBEEE38D71541694098173CE015263B7FDE6CA6260C38744762DB05D','bettany@larkfell.example');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$X3V4aKorM4d3dcYr/iTHow$HoHl7KGvHg0MujUtZMs+4xPOyTdNB2AWSaqlgJOchDg',X'961D5E06C07EE9256E79076909E766455498792D51657FF66B1E3A2271BF2EAB2065A342DBD00F5162E21ABF','orla@larkfell.example');
INSERT INTO "users" VALUES(9,'corin','Corin Vale',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$6CdJFaojqXQY336ZvoggZw$CBPwc4BGsM6FYVNEW+p1JQ6p8E3jAspRU7Crgr4WRc0',X'CB88367747CCB4F8CEFC027FAACCB56253C2E7AED981FB7CBA1D42956EF9B25DE4001B5568BF9FA9E0772458','');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,3,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$lsmtsosFAj/aw8vWxE9p5g$T9ePS4Pf0s1sG+i96vPy/HUDZPvO8L+mh1FrGLPslnE',X'3002297E8797A54EC68BB59854611AA3B4BD7FE1A944F08F98F62D16C1988A9B3EA3D95FE9B5BC26FA8AA04C','');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,1,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$deK7HXH9JoKNt3KO+JNBYQ$YbDaL9Euwbqp8k6ilcKLviW4n4j1FfIfFLpaXsph/xA',X'EFDE677142DBAFA837B498AFD483E7A60CDA1C91E9FB7BC4646DB2F497713949F1406C9D9EE5AF4979C2BC04','');
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
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',6);
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
