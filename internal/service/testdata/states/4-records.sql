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
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 10:25:11');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 10:25:11');
INSERT INTO "goose_db_version" VALUES(3,2,1,'2026-11-27 10:25:11');
INSERT INTO "goose_db_version" VALUES(4,3,1,'2026-11-27 10:25:11');
INSERT INTO "goose_db_version" VALUES(5,4,1,'2026-11-27 10:25:11');
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
INSERT INTO "id_lists" VALUES(1,'dome1','[{"name":"tomasz","number":2004},{"name":"piran","number":2002},{"name":"svc-dome","number":2101}]');
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
INSERT INTO "journal" VALUES(1,'2026-11-27T10:25:11.750602962Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'6D89369747ECA76FFE3C7C08C414E21AF537F9EF50D891D92F98A9476D6ED9C8');
INSERT INTO "journal" VALUES(2,'2026-11-27T10:25:11.753940295Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'6D89369747ECA76FFE3C7C08C414E21AF537F9EF50D891D92F98A9476D6ED9C8',X'AFFACB90C3F5A2F52363301A72C50AACDDFE524E777D49DA08DC479BA56A531E');
INSERT INTO "journal" VALUES(3,'2026-11-27T10:25:11.754794021Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'AFFACB90C3F5A2F52363301A72C50AACDDFE524E777D49DA08DC479BA56A531E',X'DAB23B674B72E8D49C12AE94E057CFB71E1125B53F4005D33E3999E9F3F3B69B');
INSERT INTO "journal" VALUES(4,'2026-11-27T10:25:11.756299422Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'DAB23B674B72E8D49C12AE94E057CFB71E1125B53F4005D33E3999E9F3F3B69B',X'6BAE12F18873160BA7FA8F3FE1F3D932F12AB5D92E064798DF59F55E212F3DAF');
INSERT INTO "journal" VALUES(5,'2026-11-27T10:25:11.757357377Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'6BAE12F18873160BA7FA8F3FE1F3D932F12AB5D92E064798DF59F55E212F3DAF',X'7D3E1B8904B5F86229FF9856DA89B291CEBB336836AF0D2CB3CF287B9391143F');
INSERT INTO "journal" VALUES(6,'2026-11-27T10:25:11.758158081Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'7D3E1B8904B5F86229FF9856DA89B291CEBB336836AF0D2CB3CF287B9391143F',X'BA2CA3114838C26CD27E72FA3309F5D7606F2723F6DA5915F2B58FE97BAB5F86');
INSERT INTO "journal" VALUES(7,'2026-11-27T10:25:11.817031233Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900}}]',X'BA2CA3114838C26CD27E72FA3309F5D7606F2723F6DA5915F2B58FE97BAB5F86',X'B89BAACBCFF1E99661EEC4A17A01334E1FF02567FE2772ACACD4AC37245DA468');
INSERT INTO "journal" VALUES(8,'2026-11-27T10:25:11.874626592Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'B89BAACBCFF1E99661EEC4A17A01334E1FF02567FE2772ACACD4AC37245DA468',X'EBC164806AF35247036561028E1EEF546D4785A0653A55EAF91688B4D160B4E5');
INSERT INTO "journal" VALUES(9,'2026-11-27T10:25:11.934555251Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true}}]',X'EBC164806AF35247036561028E1EEF546D4785A0653A55EAF91688B4D160B4E5',X'2FB02324656005CBDA1CC8B2518F7824F167476F94A61F6200FE2555B52E2BEE');
INSERT INTO "journal" VALUES(10,'2026-11-27T10:25:11.973214504Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true}}]',X'2FB02324656005CBDA1CC8B2518F7824F167476F94A61F6200FE2555B52E2BEE',X'091CA16B0C37D245E89D9A481FAA93E40166E90CAAF2FA31561DD8C4AAD19ABF');
INSERT INTO "journal" VALUES(11,'2026-11-27T10:25:12.012492643Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true}}]',X'091CA16B0C37D245E89D9A481FAA93E40166E90CAAF2FA31561DD8C4AAD19ABF',X'FD5E927BF17E6E2360D2CAF7BE4477695FBA044D135DA4E94FCF0E259F8788C8');
INSERT INTO "journal" VALUES(12,'2026-11-27T10:25:12.051764346Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true}}]',X'FD5E927BF17E6E2360D2CAF7BE4477695FBA044D135DA4E94FCF0E259F8788C8',X'847885B8787BE7651FBBB959CDCD45F084A9EF576840AB15642A0004D66B30CE');
INSERT INTO "journal" VALUES(13,'2026-11-27T10:25:12.089890529Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true}}]',X'847885B8787BE7651FBBB959CDCD45F084A9EF576840AB15642A0004D66B30CE',X'7A3340119DE52C27EFADA051550AE1B3ADC8126534498F4947F39D87B2330106');
INSERT INTO "journal" VALUES(14,'2026-11-27T10:25:12.130230668Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true}}]',X'7A3340119DE52C27EFADA051550AE1B3ADC8126534498F4947F39D87B2330106',X'E19ED7D7A4821564DA97A680660A049F9EEF2271357912020CF1D05A57EC77AC');
INSERT INTO "journal" VALUES(15,'2026-11-27T10:25:12.168763087Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'E19ED7D7A4821564DA97A680660A049F9EEF2271357912020CF1D05A57EC77AC',X'CDDF132F85FC2222F4BADEE9A32D818E6F60E39C78C1BD109929D179BC0382A6');
INSERT INTO "journal" VALUES(16,'2026-11-27T10:25:12.169762341Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'CDDF132F85FC2222F4BADEE9A32D818E6F60E39C78C1BD109929D179BC0382A6',X'D3C91EC7B237FB44806E47DF8124CD69F9AC0802D723676E217C7B75CEE8CAD6');
INSERT INTO "journal" VALUES(17,'2026-11-27T10:25:12.209930835Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"primary":3,"service":true,"nfs":true}}]',X'D3C91EC7B237FB44806E47DF8124CD69F9AC0802D723676E217C7B75CEE8CAD6',X'091049D8C00C9B6DE6BC90B2FAA6E21889C2A12DA8E51421F442A86D86401011');
INSERT INTO "journal" VALUES(18,'2026-11-27T10:25:12.248253719Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"primary":1,"service":true,"nfs":true}}]',X'091049D8C00C9B6DE6BC90B2FAA6E21889C2A12DA8E51421F442A86D86401011',X'78349C9DF1292DB0BD84B16BDF37A8A2D60F6D11AFE7315C7D33756116D594BE');
INSERT INTO "journal" VALUES(19,'2026-11-27T10:25:12.249330023Z','service','add member svc-dome','archive','[{"kind":"group","id":3,"before":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"},"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive","members":[{"kind":1,"id":10}]}}]',X'78349C9DF1292DB0BD84B16BDF37A8A2D60F6D11AFE7315C7D33756116D594BE',X'E2D630FE9BFC3D661E9CBC4B9BEE8F70CEC20CF869B4B01EB74071CC0EC49F92');
INSERT INTO "journal" VALUES(20,'2026-11-27T10:25:12.250219531Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'E2D630FE9BFC3D661E9CBC4B9BEE8F70CEC20CF869B4B01EB74071CC0EC49F92',X'AF40415F1CB873F6B3D3E9470DECDCBB446EE7F7751BF66601569BB9664B7A61');
INSERT INTO "journal" VALUES(21,'2026-11-27T10:25:12.251041958Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'AF40415F1CB873F6B3D3E9470DECDCBB446EE7F7751BF66601569BB9664B7A61',X'FE208BE30233F6902BF3D9EA3E2830350D6C53239B963E1C6E7E849CA93967B1');
INSERT INTO "journal" VALUES(22,'2026-11-27T10:25:12.251842646Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'FE208BE30233F6902BF3D9EA3E2830350D6C53239B963E1C6E7E849CA93967B1',X'1C4EFB062D83CE6D289EBE3A4417EB358EA512A9F7DCF17FC60DDB56EDF0A98D');
INSERT INTO "journal" VALUES(23,'2026-11-27T10:25:12.252585117Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'1C4EFB062D83CE6D289EBE3A4417EB358EA512A9F7DCF17FC60DDB56EDF0A98D',X'203C00D30B259EC0265656657861A091400D7E2719D2312EA292FB214E4B7BFF');
INSERT INTO "journal" VALUES(24,'2026-11-27T10:25:12.254570506Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit","counting":"size"}}]',X'203C00D30B259EC0265656657861A091400D7E2719D2312EA292FB214E4B7BFF',X'FAA27F1C4282F4404C92A65E90C14782017B038C6793C906D412EB9F0EFAFA8D');
INSERT INTO "journal" VALUES(25,'2026-11-27T10:25:12.255825182Z','service','add host set','dome-hosts','[{"kind":"host set","id":1,"after":{"id":1,"name":"dome-hosts","description":"Dome control, on the mountain''s own network","rules":[{"id":1,"from":"192.0.2.16/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":2,"from":"dome*.larkfell.example","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'FAA27F1C4282F4404C92A65E90C14782017B038C6793C906D412EB9F0EFAFA8D',X'DEF51FBBB651B94C306F9A914FA8565D5F0374746464BC6F340005B68D4D441F');
INSERT INTO "journal" VALUES(26,'2026-11-27T10:25:12.256855697Z','service','add host set','reduction-hosts','[{"kind":"host set","id":2,"after":{"id":2,"name":"reduction-hosts","description":"Where the raw plates become catalogues","rules":[{"id":3,"from":"192.0.2.32/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'DEF51FBBB651B94C306F9A914FA8565D5F0374746464BC6F340005B68D4D441F',X'29BB765E7C30D8EFA9E3C2FFCACA68BF0434D65FF45AAABC0E8AA820BA00441A');
INSERT INTO "journal" VALUES(27,'2026-11-27T10:25:12.257861105Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1,"permissions":"acl","ownership":"mapped"}}]',X'29BB765E7C30D8EFA9E3C2FFCACA68BF0434D65FF45AAABC0E8AA820BA00441A',X'266C2DB352B56FB393148107551FA9CF5F930AC723F795F2D1348B16CF82D84A');
INSERT INTO "journal" VALUES(28,'2026-11-27T10:25:12.258895935Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'266C2DB352B56FB393148107551FA9CF5F930AC723F795F2D1348B16CF82D84A',X'FE73B26BF30385D1D5313D4F34ACE7D4C69CBD8B3601099685B9D70A53F92403');
INSERT INTO "journal" VALUES(29,'2026-11-27T10:25:12.259827567Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'FE73B26BF30385D1D5313D4F34ACE7D4C69CBD8B3601099685B9D70A53F92403',X'8C64064AD35816DFA644C5FCB1BB13DFE485D14E176657057B5FDA9C8D366E46');
INSERT INTO "journal" VALUES(30,'2026-11-27T10:25:12.26075636Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'8C64064AD35816DFA644C5FCB1BB13DFE485D14E176657057B5FDA9C8D366E46',X'5E6E51FCBE87A5A1A528B43DFB854CAEBD2D157D67E284D86E2EDD0AA4D7688A');
INSERT INTO "journal" VALUES(31,'2026-11-27T10:25:12.261731138Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2,"permissions":"acl","ownership":"mapped"}}]',X'5E6E51FCBE87A5A1A528B43DFB854CAEBD2D157D67E284D86E2EDD0AA4D7688A',X'DF752306DC250CCB6CD19F4379E217130BBBC35AC619AC01B325C08A6D3A6E9D');
INSERT INTO "journal" VALUES(32,'2026-11-27T10:25:12.262830228Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'DF752306DC250CCB6CD19F4379E217130BBBC35AC619AC01B325C08A6D3A6E9D',X'08A28FF6D0007FC13A49F6B88AEF991DA97E54DD3DE2EF0C9E80AF1DE7BBF090');
INSERT INTO "journal" VALUES(33,'2026-11-27T10:25:12.263876779Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'08A28FF6D0007FC13A49F6B88AEF991DA97E54DD3DE2EF0C9E80AF1DE7BBF090',X'3FCB08E0AA0A965954A39D3A055BEF98C7A7E24FEE01B3AE4FFDF3AEA32F9F18');
INSERT INTO "journal" VALUES(34,'2026-11-27T10:25:12.26483519Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'3FCB08E0AA0A965954A39D3A055BEF98C7A7E24FEE01B3AE4FFDF3AEA32F9F18',X'A9CB1E21ACA27046B25C175BF38979655A3E23CCA703033996F117E6F8F70260');
INSERT INTO "journal" VALUES(35,'2026-11-27T10:25:12.265849574Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'A9CB1E21ACA27046B25C175BF38979655A3E23CCA703033996F117E6F8F70260',X'D2BC8E72616984A3BA04E800AA684D374BCD008CFD73AEB8F507E0C16C31C06C');
INSERT INTO "journal" VALUES(36,'2026-11-27T10:25:12.266901233Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'D2BC8E72616984A3BA04E800AA684D374BCD008CFD73AEB8F507E0C16C31C06C',X'049E7E27F4655074E31E12AA6CCD032014997550629E4F79172C53A8FB42F2BB');
INSERT INTO "journal" VALUES(37,'2026-11-27T10:25:12.267884293Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'049E7E27F4655074E31E12AA6CCD032014997550629E4F79172C53A8FB42F2BB',X'ECA786E26992FEDC2F839EC2A2571078BA9FFED14E598E991C1C7F80F1501F6B');
INSERT INTO "journal" VALUES(38,'2026-11-27T10:25:12.268960137Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'ECA786E26992FEDC2F839EC2A2571078BA9FFED14E598E991C1C7F80F1501F6B',X'9BFC4B633B9B09B90FC91369607B7284FC4E31441CAF9D290F3541A22EBC2C28');
INSERT INTO "journal" VALUES(39,'2026-11-27T10:25:12.269921994Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'9BFC4B633B9B09B90FC91369607B7284FC4E31441CAF9D290F3541A22EBC2C28',X'FC99BA5500A7CFD73B40FF00AD4D087F348532214037D01278EFAFECCD093141');
INSERT INTO "journal" VALUES(40,'2026-11-27T10:25:12.271096522Z','service','add export','/instruments','[{"kind":"export","id":1,"after":{"id":1,"path":"/instruments","folderId":2,"rules":[{"id":4,"from":"@dome-hosts"}]}}]',X'FC99BA5500A7CFD73B40FF00AD4D087F348532214037D01278EFAFECCD093141',X'053D26ACEFABE8094D269274DE620AD89CDAE535F636DA9B6C22FFE3A69E9C25');
INSERT INTO "journal" VALUES(41,'2026-11-27T10:25:12.272139275Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3,"permissions":"acl","ownership":"mapped"}}]',X'053D26ACEFABE8094D269274DE620AD89CDAE535F636DA9B6C22FFE3A69E9C25',X'CB569E47078118F3D2E0E7694619D94A71FDD50B36B4CDA5DEE8F37D4846A798');
INSERT INTO "journal" VALUES(42,'2026-11-27T10:25:12.273186867Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'CB569E47078118F3D2E0E7694619D94A71FDD50B36B4CDA5DEE8F37D4846A798',X'B3B8178ACB3365D8C6F619884B0076DEBB366260D5E680C02A09152BE5F4A118');
INSERT INTO "journal" VALUES(43,'2026-11-27T10:25:12.274209207Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'B3B8178ACB3365D8C6F619884B0076DEBB366260D5E680C02A09152BE5F4A118',X'8DEDED315540F35FC34551951EDF60C8E702BE210BEFCCDF4FFEA607F1B88C8D');
INSERT INTO "journal" VALUES(44,'2026-11-27T10:25:12.275182066Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'8DEDED315540F35FC34551951EDF60C8E702BE210BEFCCDF4FFEA607F1B88C8D',X'F36970DEA44A83A23AE42A3D991620F061C1ACCDBA2C6D69E3ACE95AECE3DCEA');
INSERT INTO "journal" VALUES(45,'2026-11-27T10:25:12.276149537Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'F36970DEA44A83A23AE42A3D991620F061C1ACCDBA2C6D69E3ACE95AECE3DCEA',X'17373902A9413BE46B9FEEBDA5A6DC9B8F0CF2216DB54EEAC9C1AFFCE3D82581');
INSERT INTO "journal" VALUES(46,'2026-11-27T10:25:12.277497909Z','service','add export','/plates','[{"kind":"export","id":2,"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'17373902A9413BE46B9FEEBDA5A6DC9B8F0CF2216DB54EEAC9C1AFFCE3D82581',X'50B6CD7275690233C0602E4042A0F6BF697244BFAED847A297E368BC45CEDCFC');
INSERT INTO "journal" VALUES(47,'2026-11-27T10:25:12.278595412Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5,"permissions":"acl","ownership":"mapped"}}]',X'50B6CD7275690233C0602E4042A0F6BF697244BFAED847A297E368BC45CEDCFC',X'F1AD73D8D2812F05D418EBE9205F747C886A25D18E6F92B378ED68FF7B6724AB');
INSERT INTO "journal" VALUES(48,'2026-11-27T10:25:12.279690468Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'F1AD73D8D2812F05D418EBE9205F747C886A25D18E6F92B378ED68FF7B6724AB',X'6C01DC75A6EA613FDF20D5BD0D9D6794727AF18E31215DA0513B5E8BE3E7FD3D');
INSERT INTO "journal" VALUES(49,'2026-11-27T10:25:12.280782982Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'6C01DC75A6EA613FDF20D5BD0D9D6794727AF18E31215DA0513B5E8BE3E7FD3D',X'BE0D4CCF0755B669A28B4A781E4A57CD8453C247C8474803B69A5238BE54D219');
INSERT INTO "journal" VALUES(50,'2026-11-27T10:25:12.281813375Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'BE0D4CCF0755B669A28B4A781E4A57CD8453C247C8474803B69A5238BE54D219',X'2969E7B66FEF63D07D9EF55C22BA3C4833AF47839C171054F1E1B1DF1A227A53');
INSERT INTO "journal" VALUES(51,'2026-11-27T10:25:12.28296373Z','service','add export','/visitors','[{"kind":"export","id":3,"after":{"id":3,"path":"/visitors","folderId":4,"rules":[{"id":8,"from":"*","write":true,"squash":"none","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'2969E7B66FEF63D07D9EF55C22BA3C4833AF47839C171054F1E1B1DF1A227A53',X'3562FAD17DACA553A490375631E9C64BEC044FF249B5F8FC2A8399DEAFDD1A21');
INSERT INTO "journal" VALUES(52,'2026-11-27T10:25:12.284063Z','service','add folder','scratch','[{"kind":"folder","id":5,"after":{"id":5,"name":"scratch","volumeId":1,"path":"scratch","description":"Room for the reduction hosts; nothing here is kept","owner":11,"group":4,"permissions":"unix","ownership":"mapped"}}]',X'3562FAD17DACA553A490375631E9C64BEC044FF249B5F8FC2A8399DEAFDD1A21',X'2F98DC1057201EAC1FF6A108B53F42F17F6F0136C4AC83069BE4A456D57DF382');
INSERT INTO "journal" VALUES(53,'2026-11-27T10:25:12.285192341Z','service','set mode','scratch','[]',X'2F98DC1057201EAC1FF6A108B53F42F17F6F0136C4AC83069BE4A456D57DF382',X'ED388A21FA36A22D30A2CC687FE7161775234425F454874F7168DF956CAE313C');
INSERT INTO "journal" VALUES(54,'2026-11-27T10:25:12.286457239Z','service','add export','/scratch','[{"kind":"export","id":4,"after":{"id":4,"path":"/scratch","folderId":5,"rules":[{"id":9,"from":"@reduction-hosts"},{"id":10,"from":"127.0.0.1","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"number"}]}}]',X'ED388A21FA36A22D30A2CC687FE7161775234425F454874F7168DF956CAE313C',X'A1CB120604AAE43AE600221DB29494439F9E1497C4D7B1A226118AE5A93D220D');
INSERT INTO "journal" VALUES(55,'2026-11-27T10:25:12.287545426Z','service','add folder','personal','[{"kind":"folder","id":6,"after":{"id":6,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4,"permissions":"acl","ownership":"mapped"}}]',X'A1CB120604AAE43AE600221DB29494439F9E1497C4D7B1A226118AE5A93D220D',X'25CA05CC2DE7CC146431F479E7B1536B807A342CB4C8081E50F7E79DB0A09C62');
INSERT INTO "journal" VALUES(56,'2026-11-27T10:25:12.28871026Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'25CA05CC2DE7CC146431F479E7B1536B807A342CB4C8081E50F7E79DB0A09C62',X'D6BFA7B9DCEE1A5310FD58D76604FF8E0FB4462C173E262B744997A1ACDCE223');
INSERT INTO "journal" VALUES(57,'2026-11-27T10:25:12.289886814Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":6,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'D6BFA7B9DCEE1A5310FD58D76604FF8E0FB4462C173E262B744997A1ACDCE223',X'12AB6EB8F99F681A5BEA84D3012DCA9494CD281DF5E8E19EF248898CA266299C');
INSERT INTO "journal" VALUES(58,'2026-11-27T10:25:12.291045163Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":6,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'12AB6EB8F99F681A5BEA84D3012DCA9494CD281DF5E8E19EF248898CA266299C',X'4DEA5ADD065DEFB4C110D64C6513D50B8B638DE5743BE17A9D1FFE1169505488');
INSERT INTO "journal" VALUES(59,'2026-11-27T10:25:12.292247622Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":6,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'4DEA5ADD065DEFB4C110D64C6513D50B8B638DE5743BE17A9D1FFE1169505488',X'CE9DD3929DD69C5E0330E9CB4619CD0F1EB82527819F7CE871DACC9B168E3045');
INSERT INTO "journal" VALUES(60,'2026-11-27T10:25:12.293431737Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":6,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'CE9DD3929DD69C5E0330E9CB4619CD0F1EB82527819F7CE871DACC9B168E3045',X'E117A823F853278514C505AE370A93D76CF5C159FCF86A7C54E2FF8170D05BC3');
INSERT INTO "journal" VALUES(61,'2026-11-27T10:25:12.294640051Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":6,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'E117A823F853278514C505AE370A93D76CF5C159FCF86A7C54E2FF8170D05BC3',X'B6D1533E8C90EEE4F4F328A35AE80AA52CB45E53187FDC2445FE31DEE59D35B3');
INSERT INTO "journal" VALUES(62,'2026-11-27T10:25:12.29576698Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":6,"announced":true,"listOnlyOpenable":true}}]',X'B6D1533E8C90EEE4F4F328A35AE80AA52CB45E53187FDC2445FE31DEE59D35B3',X'ABD44FDB1C969078E18FD9BE552E918FA6BB3674E3CED4C9680712D04B2A7344');
INSERT INTO "journal" VALUES(63,'2026-11-27T10:25:12.29699735Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'ABD44FDB1C969078E18FD9BE552E918FA6BB3674E3CED4C9680712D04B2A7344',X'7016A259C5CDE8EA21FB7B4AF2B43529731FC0B1206099102A9D1669211E0554');
INSERT INTO "journal" VALUES(64,'2026-11-27T10:25:12.298271033Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":6},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'7016A259C5CDE8EA21FB7B4AF2B43529731FC0B1206099102A9D1669211E0554',X'21521564D55AD283FB5672ED3108E6973B00F5922BAFB978C21FDBAB043C8C0A');
INSERT INTO "journal" VALUES(65,'2026-11-27T10:25:12.299607033Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"},{"id":21,"who":{"kind":1,"id":7},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'21521564D55AD283FB5672ED3108E6973B00F5922BAFB978C21FDBAB043C8C0A',X'3DD4A5E578952F8E605FEC78D5C9B255B2EDB1674A07FB6C7FEBA8A360C6EDB4');
INSERT INTO "journal" VALUES(66,'2026-11-27T10:25:12.300803132Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":22,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'3DD4A5E578952F8E605FEC78D5C9B255B2EDB1674A07FB6C7FEBA8A360C6EDB4',X'A5E6BCDA8F266670EC985A23A50E8526FB89C40B43147947D520C92BC1F6B4FE');
INSERT INTO "journal" VALUES(67,'2026-11-27T10:25:12.301973108Z','service','add entry','personal','[{"kind":"rule","id":7,"before":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]},"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1},{"id":23,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]}}]',X'A5E6BCDA8F266670EC985A23A50E8526FB89C40B43147947D520C92BC1F6B4FE',X'0681C15E28E4F9B323B08E79BE1385AB8E2D76C98A50F7E8D56E74B9815F5866');
INSERT INTO "journal" VALUES(68,'2026-11-27T10:25:12.303163584Z','service','remember numbers','dome1','[{"kind":"id list","id":1,"after":{"id":1,"host":"dome1","numbers":[{"name":"tomasz","number":2004},{"name":"piran","number":2002},{"name":"svc-dome","number":2101}]}}]',X'0681C15E28E4F9B323B08E79BE1385AB8E2D76C98A50F7E8D56E74B9815F5866',X'B2DF547BF007E16DAF968F4CC7FD554412CBB0227A2E4429B4093580F4E29CB2');
INSERT INTO "journal" VALUES(69,'2026-11-27T10:25:12.304486669Z','service','give to bettany and group archive','personal/bettany/plate-index.dat','[]',X'B2DF547BF007E16DAF968F4CC7FD554412CBB0227A2E4429B4093580F4E29CB2',X'8FE33CDBDFB1A1628D9D54766A1896B6BF16E41C7E99D4FB04FFEC35B85E854C');
INSERT INTO "journal" VALUES(70,'2026-11-27T10:25:12.305644514Z','service','give to piran and group observers','personal/piran/allsky-2026-03.dat','[]',X'8FE33CDBDFB1A1628D9D54766A1896B6BF16E41C7E99D4FB04FFEC35B85E854C',X'11E4D973CF993697D02B4342D11AC67019AFA5D89755271A5FD97D7ECC7B4867');
INSERT INTO "journal" VALUES(71,'2026-11-27T10:25:12.30685733Z','service','give to isolde and group observers','personal/isolde/spectra.dat','[]',X'11E4D973CF993697D02B4342D11AC67019AFA5D89755271A5FD97D7ECC7B4867',X'F48E85D0AA6E2A89B0061CFC14EEC394A1EAE0561EBFD846D1B6D6AAFAFBBCFC');
INSERT INTO "journal" VALUES(72,'2026-11-27T10:25:12.308146385Z','service','give to tomasz and group engineers','personal/tomasz/bench.dat','[]',X'F48E85D0AA6E2A89B0061CFC14EEC394A1EAE0561EBFD846D1B6D6AAFAFBBCFC',X'7BCF067F08F4709A5CCC53534A5F7CD8690E0CB283F406A9F3AED13361D46F2F');
INSERT INTO "journal" VALUES(73,'2026-11-27T10:25:12.309348367Z','service','give to orla and group visitors','visitors/orla-field.dat','[]',X'7BCF067F08F4709A5CCC53534A5F7CD8690E0CB283F406A9F3AED13361D46F2F',X'6293D3EFD7FB1CAB3A0821C0D158A4D2AF48875F24967C56164C57D1CA9A4F1B');
INSERT INTO "journal" VALUES(74,'2026-11-27T10:25:12.310616096Z','service','give to svc-reduce and group staff','scratch/2026-03/stack.dat','[]',X'6293D3EFD7FB1CAB3A0821C0D158A4D2AF48875F24967C56164C57D1CA9A4F1B',X'665739621E53D78F81333004052C59789C85F1A73C6000A02130B8FA4EA273E4');
INSERT INTO "journal" VALUES(75,'2026-11-27T10:25:12.311891544Z','service','set limit','user bettany','[{"kind":"limit","id":1,"after":{"id":1,"kind":"user","user":7,"hardBytes":5000000,"graceSeconds":604800}}]',X'665739621E53D78F81333004052C59789C85F1A73C6000A02130B8FA4EA273E4',X'FA28276AC627D8E17E3D728B153AB9322BDD799EE9EE2B160655823D2C278478');
INSERT INTO "journal" VALUES(76,'2026-11-27T10:25:12.313144231Z','service','set limit','user piran','[{"kind":"limit","id":2,"after":{"id":2,"kind":"user","user":5,"softBytes":2000000,"hardBytes":4000000,"graceSeconds":604800}}]',X'FA28276AC627D8E17E3D728B153AB9322BDD799EE9EE2B160655823D2C278478',X'883FDA498EDB027ACB86EE9438F826ACE0E39321398B27FE85E9FAFF13558550');
INSERT INTO "journal" VALUES(77,'2026-11-27T10:25:12.314507747Z','service','set limit','user svc-reduce in scratch','[{"kind":"limit","id":3,"after":{"id":3,"kind":"user","user":11,"folderId":5,"hardBytes":1000000,"graceSeconds":604800}}]',X'883FDA498EDB027ACB86EE9438F826ACE0E39321398B27FE85E9FAFF13558550',X'150A339BBE466ABD05E0EFCC65E32E4C4B86B6175F2901B0C29E493731925914');
INSERT INTO "journal" VALUES(78,'2026-11-27T10:25:12.315740962Z','service','set limit','default of visitors in visitors','[{"kind":"limit","id":4,"after":{"id":4,"kind":"default","group":5,"folderId":4,"hardBytes":500000,"graceSeconds":604800}}]',X'150A339BBE466ABD05E0EFCC65E32E4C4B86B6175F2901B0C29E493731925914',X'DE2A824F605F8B4D0E94BBE67FAF8E85F0B914B3656BB6BABA70148C4A655427');
INSERT INTO "journal" VALUES(79,'2026-11-27T10:25:12.316929714Z','service','set limit','folder nightlog','[{"kind":"limit","id":5,"after":{"id":5,"kind":"folder","folderId":1,"softBytes":2500000,"hardBytes":3000000,"graceSeconds":259200}}]',X'DE2A824F605F8B4D0E94BBE67FAF8E85F0B914B3656BB6BABA70148C4A655427',X'7A8F99C42E0E366CB3AC1387DA491147315ECCA9602CDA463096564ABB875C16');
INSERT INTO "journal" VALUES(80,'2026-11-27T10:25:12.318178138Z','service','set limit','folder plates','[{"kind":"limit","id":6,"after":{"id":6,"kind":"folder","folderId":3,"hardBytes":20000000,"graceSeconds":604800}}]',X'7A8F99C42E0E366CB3AC1387DA491147315ECCA9602CDA463096564ABB875C16',X'8DCC5ABEEEFE2F50C99D77D2AC78B9AE682882ED09FBF01A0E629338E7959837');
INSERT INTO "journal" VALUES(81,'2026-11-27T10:25:12.319555212Z','service','set limit','folder plates/2026','[{"kind":"limit","id":7,"after":{"id":7,"kind":"folder","folderId":3,"path":"2026","hardBytes":10000000,"hardFiles":2000,"graceSeconds":604800}}]',X'8DCC5ABEEEFE2F50C99D77D2AC78B9AE682882ED09FBF01A0E629338E7959837',X'B8CD2425748A47450489E6DCF4FA26797903BA2DE55E595222D32BAF4D0ECD1B');
INSERT INTO "journal" VALUES(82,'2026-11-27T10:25:12.320734261Z','service','switch service on','nfs','[{"kind":"services","id":1,"before":{"smb":true,"nfs":false},"after":{"smb":true,"nfs":true}}]',X'B8CD2425748A47450489E6DCF4FA26797903BA2DE55E595222D32BAF4D0ECD1B',X'1A98A31AE93C68B48158801343FDBFD9FCD517D5BEE7AB53E08E15F320A9DB4E');
INSERT INTO "journal" VALUES(83,'2026-11-27T10:25:12.658738396Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'1A98A31AE93C68B48158801343FDBFD9FCD517D5BEE7AB53E08E15F320A9DB4E',X'394138B32354F70A2771BE4C690E5444FD25CF843206EEBD3471FCDED96A48BF');
INSERT INTO "journal" VALUES(84,'2026-11-27T10:25:12.679390934Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":24,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'394138B32354F70A2771BE4C690E5444FD25CF843206EEBD3471FCDED96A48BF',X'31FBEAA1CC2A15C1125D537B4A80202A283CFF0B784787318B7717BC3BBC5830');
INSERT INTO "journal" VALUES(85,'2026-11-27T10:25:12.697682385Z','keeper','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":19,"who":{"kind":1,"id":3},"mask":393216,"applies":1,"note":"decides who gets in"},{"id":25,"who":{"kind":1,"id":8},"level":2,"applies":7,"note":"for the spring run"}]}}]',X'31FBEAA1CC2A15C1125D537B4A80202A283CFF0B784787318B7717BC3BBC5830',X'D834E5FE21A44EFAAC7B3FA99493E0472A18322BD471AE7BDFF4ECA99CB0E64E');
INSERT INTO "journal" VALUES(86,'2026-11-27T10:25:12.716753997Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'D834E5FE21A44EFAAC7B3FA99493E0472A18322BD471AE7BDFF4ECA99CB0E64E',X'9FFE33011A571B6D23DA53FBF9640666BAF95162F86D8210ABC8E890452C969F');
INSERT INTO "journal" VALUES(87,'2026-11-27T10:25:12.735287413Z','keeper','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'9FFE33011A571B6D23DA53FBF9640666BAF95162F86D8210ABC8E890452C969F',X'34FD8C7C5DE16CCBAA6BE87043DDB4DC0E54EA67CF6309B78321648650AFD0D9');
INSERT INTO "journal" VALUES(88,'2026-11-27T10:25:12.754529671Z','keeper','add client rule','/plates','[{"kind":"export","id":2,"before":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]},"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":11,"from":"192.0.2.99","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'34FD8C7C5DE16CCBAA6BE87043DDB4DC0E54EA67CF6309B78321648650AFD0D9',X'8D61B18A2C63169C7FB533AF6BDEAF2D483FAEFABA8FB862B372CEE8D0A2D918');
INSERT INTO "journal" VALUES(89,'2026-11-27T10:25:12.773551934Z','keeper','set limit','user wren','[{"kind":"limit","id":8,"after":{"id":8,"kind":"user","user":3,"hardBytes":2000000000,"graceSeconds":604800}}]',X'8D61B18A2C63169C7FB533AF6BDEAF2D483FAEFABA8FB862B372CEE8D0A2D918',X'DD51482DFA7E76BD41D22B001A4BE07F98984E54DEC30CDC83C65F18D830790E');
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
INSERT INTO "sessions" VALUES(X'C6DDEAFA3A5F28E885D35EF9BF77EB0922A7DFF40BDC9B437385211DD3753BD3',1,'2026-11-27T10:25:12Z','2026-11-27T22:25:12Z');
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
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$IU2koNq/f1nos2w+earJPA$ThUN9+YVday2UbRGUO1vb2GdgkyIgS/+f3hW5JgKSsw',X'6109A2C3B7CAE4C9B2F24D9A1770B982222E7C901A4A9934A37D5C79730664AB68041C2806B32D1F5A8FC677');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$9ayAGyJA2j0rNJXhSFqzBA$UpMc7wHBYJOpr9j496iDB1FBR3/TA+5GDIPNzJ6agHE',X'4E864F8B75F1A206B4E2770A9A5A73E2FC15C59FCDCC37A6118F69FC80A89A048369DF8102BE36F655CA8C0D');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$ckk2adezx+mv2vZmQs1kCA$V3FQHxqg0GKIF76ySNhZdYDD6GLAto5f39QDnN+zClc',X'4ED98285E67E6A922BD6F0D6A27FB0B534B9B98784F3A4A39B86B919B5B12F8F5F689F584426954131AE1381');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$aVEDISYicOQQrr0TESWUjA$+hknEnFQe9JFLaQsvDtqWStj5DMq2rDQRuD1qbcB/J8',X'F5AA1CECE43AFA8E1A7246F79A6DE80F7BEF2E0E3A85E7689D8A5038B13F0A2BB599112D6069592D2036C551');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$WPgnFFgs0oM35Ez+EBWlug$izLskhgJsFOwsJraL6TfUpm87R+r8SD9ue7XS4CruM0',X'DE7849873DC2121187003B02A993AAB29C08C2D27F1999176F1DA387B8BCA31CD7BB402810BB2ACB5833E73A');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$LdvX5/5oivwXYsEUBOQw3g$qJeUByp5v0KDAwrPlETqq+8iVpsKmW398uFWOcl1Eao',X'4ABA9340F83BE20CE2D0AE2B128A4B971C219A54F31B516152A67232E20B46515B6E63EFA47D9B6047BC31C2');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$iTjKI382WXc6L00Nsdkytw$R+wckQHLRjTa5w0z9ihi/ze+wzVOuNLuNQl5mjoNRaY',X'B330A68D6CC68780DCB8F88B9E2FC01BAE1BA7A97C30F4D2526EEEC0E014DBC5BB23D9A33AC8EBCE8EC4EEFA');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$mUYQgmRmaNPHBYnGl1xqJQ$++VO03SJ24X5d0kEZSDY8skUAdZ7Psk21W5Kc0CXs+0',X'A82F1390CCFC5D06A0D55FE7228C62CCA805598F2614B26F48830146A7E1C634CDC3E5324C98818735193AE7');
INSERT INTO "users" VALUES(9,'corin','Corin Vale',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$Hk+biotTBALbDiob/xTWwQ$RBDdONqHRrLt//T6eKwFBOEZm1x3xmvgcu99etW5x4s',X'E724AA769627682A27919A81081429FE536D6DA0D1EF5CF925DC486A7385190B0993EE19C37EFCDA1A84C8AF');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,3,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$IaKNNk3YUk2ys0ETqM7DGg$4iYtE9N5+lg8GKZ6J0g38xNDLtAyMKivCop1d7aDcrc',X'1B863FB9E8A5D362127CBEABBC221B9D9D78A7D0FF37B2EC3765A84499634C2E332B82021A24564D7B99415B');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,1,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$sY7LTeXb5GCronorURw+bg$7m35suupHh9FjkVv1bP1/QQgyu+xiWX0ZAkf1b3Gk6g',X'631C29200B84B5D0EC23232791F4780A61A7097FFC8A5C3CE23779F17191AE3B36BF43097E36C849855B4BB1');
INSERT INTO "users" VALUES(12,'lunt','Lunt Harrow',2103,NULL,'',0,0,NULL,1,1,NULL,NULL);
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
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',5);
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
