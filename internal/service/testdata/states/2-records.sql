BEGIN TRANSACTION;
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
CREATE TABLE entries (
    id       INTEGER PRIMARY KEY AUTOINCREMENT,
    place_id INTEGER REFERENCES places (id) ON DELETE CASCADE,
    share_id INTEGER REFERENCES shares (id) ON DELETE CASCADE,
    deny     INTEGER NOT NULL DEFAULT 0,
    special  INTEGER,                            -- identity.Kind of owner@, group@, everyone@
    user_id  INTEGER REFERENCES users (id),
    group_id INTEGER REFERENCES groups (id),
    level    INTEGER NOT NULL CHECK (level BETWEEN 1 AND 5),
    applies  INTEGER NOT NULL CHECK (applies BETWEEN 1 AND 15),
    note     TEXT NOT NULL DEFAULT '',
    CHECK ((place_id IS NULL) <> (share_id IS NULL)),
    CHECK ((special IS NOT NULL) + (user_id IS NOT NULL) + (group_id IS NOT NULL) = 1)
) STRICT;
INSERT INTO "entries" VALUES(1,1,NULL,0,NULL,NULL,1,4,7,'');
INSERT INTO "entries" VALUES(2,1,NULL,0,NULL,NULL,4,2,7,'');
INSERT INTO "entries" VALUES(3,2,NULL,0,NULL,NULL,2,4,7,'');
INSERT INTO "entries" VALUES(4,2,NULL,0,NULL,NULL,4,2,7,'');
INSERT INTO "entries" VALUES(5,3,NULL,0,NULL,NULL,2,4,7,'');
INSERT INTO "entries" VALUES(6,4,NULL,0,NULL,NULL,2,4,7,'');
INSERT INTO "entries" VALUES(7,4,NULL,0,NULL,4,NULL,2,7,'For the spring calibration');
INSERT INTO "entries" VALUES(8,5,NULL,0,NULL,NULL,3,3,7,'');
INSERT INTO "entries" VALUES(9,5,NULL,0,NULL,NULL,4,2,7,'');
INSERT INTO "entries" VALUES(10,5,NULL,0,NULL,9,NULL,2,7,'A mistake to find; Corin has left');
INSERT INTO "entries" VALUES(11,6,NULL,0,NULL,NULL,5,3,7,'');
INSERT INTO "entries" VALUES(12,6,NULL,0,NULL,NULL,4,2,7,'');
INSERT INTO "entries" VALUES(13,7,NULL,0,NULL,NULL,4,2,1,'');
INSERT INTO "entries" VALUES(14,8,NULL,0,NULL,7,NULL,4,7,'');
INSERT INTO "entries" VALUES(15,9,NULL,0,NULL,4,NULL,4,7,'');
INSERT INTO "entries" VALUES(16,10,NULL,0,NULL,5,NULL,4,7,'');
INSERT INTO "entries" VALUES(17,11,NULL,0,NULL,6,NULL,4,7,'');
INSERT INTO "entries" VALUES(18,12,NULL,0,NULL,3,NULL,4,7,'');
INSERT INTO "entries" VALUES(19,13,NULL,1,NULL,12,NULL,2,7,'');
INSERT INTO "entries" VALUES(20,1,NULL,0,NULL,8,NULL,2,7,'for the spring run');
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
    group_id    INTEGER REFERENCES groups (id), permissions TEXT NOT NULL DEFAULT 'acl' CHECK (permissions IN ('acl', 'unix')), ownership TEXT NOT NULL DEFAULT 'mapped' CHECK (ownership IN ('mapped', 'native')),
    UNIQUE (volume_id, path)
) STRICT;
INSERT INTO "folders" VALUES(1,'nightlog',1,'nightlog','The observers'' log of each night',3,1,'acl','mapped');
INSERT INTO "folders" VALUES(2,'instruments',1,'instruments','Manuals, calibration and firmware',3,2,'acl','mapped');
INSERT INTO "folders" VALUES(3,'plates',1,'plates','The raw archive; what is added is never altered',3,3,'acl','mapped');
INSERT INTO "folders" VALUES(4,'visitors',1,'visitors','Visiting observers leave their data here',3,5,'acl','mapped');
INSERT INTO "folders" VALUES(5,'scratch',1,'scratch','Room for the reduction hosts; nothing here is kept',11,4,'unix','mapped');
INSERT INTO "folders" VALUES(6,'personal',1,'personal','One directory each, seen by its owner only',3,4,'acl','mapped');
CREATE TABLE goose_db_version (
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		version_id INTEGER NOT NULL,
		is_applied INTEGER NOT NULL,
		tstamp TIMESTAMP DEFAULT (datetime('now'))
	);
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 10:25:10');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 10:25:10');
INSERT INTO "goose_db_version" VALUES(3,2,1,'2026-11-27 10:25:10');
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
INSERT INTO "journal" VALUES(1,'2026-11-27T10:25:10.214595953Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'D6C3AF8A6280AB1207E5F815FC7A9573A00D3413A38DBCCE7296A05A3B7A9D65');
INSERT INTO "journal" VALUES(2,'2026-11-27T10:25:10.217031281Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'D6C3AF8A6280AB1207E5F815FC7A9573A00D3413A38DBCCE7296A05A3B7A9D65',X'98321F662545B59B5BA1990148BC834B67B97BA92BDEF844AC907AAB620DAB71');
INSERT INTO "journal" VALUES(3,'2026-11-27T10:25:10.217786173Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'98321F662545B59B5BA1990148BC834B67B97BA92BDEF844AC907AAB620DAB71',X'F9751A7B26D1971D51D96BEE2FA74941EE3B76E2C0670988B80FC3BC56BCF9D5');
INSERT INTO "journal" VALUES(4,'2026-11-27T10:25:10.218448302Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'F9751A7B26D1971D51D96BEE2FA74941EE3B76E2C0670988B80FC3BC56BCF9D5',X'09416A1A16ED75009E9F77B7FE2618F94E2A9A6A555000B0BAEDA778847A1447');
INSERT INTO "journal" VALUES(5,'2026-11-27T10:25:10.219105497Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'09416A1A16ED75009E9F77B7FE2618F94E2A9A6A555000B0BAEDA778847A1447',X'1432FC1D1895DEC2714D12ABF5A978BD237D7AFD1E831CA0110166AC96E45639');
INSERT INTO "journal" VALUES(6,'2026-11-27T10:25:10.219713039Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'1432FC1D1895DEC2714D12ABF5A978BD237D7AFD1E831CA0110166AC96E45639',X'CD410594DF92B6C16BCEBFB7CA8B89BF7DCB47A221B4246D92FC93B130353B6A');
INSERT INTO "journal" VALUES(7,'2026-11-27T10:25:10.276579027Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900}}]',X'CD410594DF92B6C16BCEBFB7CA8B89BF7DCB47A221B4246D92FC93B130353B6A',X'E232DC2B489A06C9AC37129C926D2C2416C8BA19CDF5CF04B0EF9D26B76E39E0');
INSERT INTO "journal" VALUES(8,'2026-11-27T10:25:10.33410136Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'E232DC2B489A06C9AC37129C926D2C2416C8BA19CDF5CF04B0EF9D26B76E39E0',X'B8C030DEAD56673395ECBC8B0E26BC68F847AFDE4856AE92DCF6A13543138F94');
INSERT INTO "journal" VALUES(9,'2026-11-27T10:25:10.391887297Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true}}]',X'B8C030DEAD56673395ECBC8B0E26BC68F847AFDE4856AE92DCF6A13543138F94',X'6589BBFABFA0235E32457BD18DEF2225DEE548039ACB9B78A2E64A0427A83E05');
INSERT INTO "journal" VALUES(10,'2026-11-27T10:25:10.434284643Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true}}]',X'6589BBFABFA0235E32457BD18DEF2225DEE548039ACB9B78A2E64A0427A83E05',X'13A20E43681D7E5C42F55D9D23EDBB9E53622864EC7808FA688E396805CDB779');
INSERT INTO "journal" VALUES(11,'2026-11-27T10:25:10.473137742Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true}}]',X'13A20E43681D7E5C42F55D9D23EDBB9E53622864EC7808FA688E396805CDB779',X'4485DA8BFBE88341B97E399BA5D08340595127B98FCAED5580E4226E200D3CFE');
INSERT INTO "journal" VALUES(12,'2026-11-27T10:25:10.513282Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true}}]',X'4485DA8BFBE88341B97E399BA5D08340595127B98FCAED5580E4226E200D3CFE',X'8403F6205649D833422AC8377A13B90E36AFAECDC3FE1CD912FA8919129EBC07');
INSERT INTO "journal" VALUES(13,'2026-11-27T10:25:10.55664909Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true}}]',X'8403F6205649D833422AC8377A13B90E36AFAECDC3FE1CD912FA8919129EBC07',X'9F1F8DF5364CFDACEB60F0113040174CE0CE64DB1639E62218B48BB4700A5889');
INSERT INTO "journal" VALUES(14,'2026-11-27T10:25:10.595159097Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true}}]',X'9F1F8DF5364CFDACEB60F0113040174CE0CE64DB1639E62218B48BB4700A5889',X'B532DFFF9479CEA2267B15214D847D4B17A7612BF680E479A4CAF213792603F7');
INSERT INTO "journal" VALUES(15,'2026-11-27T10:25:10.633468274Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'B532DFFF9479CEA2267B15214D847D4B17A7612BF680E479A4CAF213792603F7',X'89CBE33C01C58C86DD7F21A58CFB1256D1F095435FA51E0919DE9939C70791D7');
INSERT INTO "journal" VALUES(16,'2026-11-27T10:25:10.634568444Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'89CBE33C01C58C86DD7F21A58CFB1256D1F095435FA51E0919DE9939C70791D7',X'0AB59937D5B2346C13745D836761D893E0EC93AA5ED2873C992587A1597E77E9');
INSERT INTO "journal" VALUES(17,'2026-11-27T10:25:10.672766833Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"primary":3,"service":true,"nfs":true}}]',X'0AB59937D5B2346C13745D836761D893E0EC93AA5ED2873C992587A1597E77E9',X'430EC84189F1EA3F36AE994E1280EB527DA668D0A894C19DD8DE44F9B35C3032');
INSERT INTO "journal" VALUES(18,'2026-11-27T10:25:10.71274383Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"primary":1,"service":true,"nfs":true}}]',X'430EC84189F1EA3F36AE994E1280EB527DA668D0A894C19DD8DE44F9B35C3032',X'2960496CEF71B834A8C1071772244F2556FCB4BB376E66790E70238AFB8B6B81');
INSERT INTO "journal" VALUES(19,'2026-11-27T10:25:10.713689863Z','service','add member svc-dome','archive','[{"kind":"group","id":3,"before":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"},"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive","members":[{"kind":1,"id":10}]}}]',X'2960496CEF71B834A8C1071772244F2556FCB4BB376E66790E70238AFB8B6B81',X'55D9880F2DD0E54A17BDC6976D497F39D3F7B07F4ADFC9069C723BA3290B0EF1');
INSERT INTO "journal" VALUES(20,'2026-11-27T10:25:10.714434154Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'55D9880F2DD0E54A17BDC6976D497F39D3F7B07F4ADFC9069C723BA3290B0EF1',X'17C337A0A75B7C66679056AA7EB2AE7B71DCA44E48733DFDB27B6089E3DEB680');
INSERT INTO "journal" VALUES(21,'2026-11-27T10:25:10.715116462Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'17C337A0A75B7C66679056AA7EB2AE7B71DCA44E48733DFDB27B6089E3DEB680',X'90BBF7757EC8568A85455E27ACB1774354F2355E99D2B92C7DD38EA2C36CA240');
INSERT INTO "journal" VALUES(22,'2026-11-27T10:25:10.715809695Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'90BBF7757EC8568A85455E27ACB1774354F2355E99D2B92C7DD38EA2C36CA240',X'3B1717B4B043429D1AF2FABB41ADA42EF74BBE1E554A3E659036C2150B8AA0AE');
INSERT INTO "journal" VALUES(23,'2026-11-27T10:25:10.716501829Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'3B1717B4B043429D1AF2FABB41ADA42EF74BBE1E554A3E659036C2150B8AA0AE',X'809F96400AC6ECBA73B44012B7B154B5B908E7C91D3B54470D20C6ED61F3936D');
INSERT INTO "journal" VALUES(24,'2026-11-27T10:25:10.718197924Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit"}}]',X'809F96400AC6ECBA73B44012B7B154B5B908E7C91D3B54470D20C6ED61F3936D',X'03E9A30A17937309BE3D270DF9F08CE915B5B425A6751D07FA6F0C7BE94CB188');
INSERT INTO "journal" VALUES(25,'2026-11-27T10:25:10.719415923Z','service','add host set','dome-hosts','[{"kind":"host set","id":1,"after":{"id":1,"name":"dome-hosts","description":"Dome control, on the mountain''s own network","rules":[{"id":1,"from":"192.0.2.16/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":2,"from":"dome*.larkfell.example","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'03E9A30A17937309BE3D270DF9F08CE915B5B425A6751D07FA6F0C7BE94CB188',X'04E983D039386D9D138AEABBF83AED2C09EE64C7F4043A416FDA547B52D9D67B');
INSERT INTO "journal" VALUES(26,'2026-11-27T10:25:10.720358749Z','service','add host set','reduction-hosts','[{"kind":"host set","id":2,"after":{"id":2,"name":"reduction-hosts","description":"Where the raw plates become catalogues","rules":[{"id":3,"from":"192.0.2.32/28","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'04E983D039386D9D138AEABBF83AED2C09EE64C7F4043A416FDA547B52D9D67B',X'B85412F848CF3C67DC4696A7AB90E4ECFA12A681217BEBB9D57A6CA3759BD087');
INSERT INTO "journal" VALUES(27,'2026-11-27T10:25:10.721242314Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1,"permissions":"acl","ownership":"mapped"}}]',X'B85412F848CF3C67DC4696A7AB90E4ECFA12A681217BEBB9D57A6CA3759BD087',X'C4B918EEEF8EFB748EF5318770CEBB2F218E241827E9109BF568AD73B2785DB6');
INSERT INTO "journal" VALUES(28,'2026-11-27T10:25:10.722165056Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'C4B918EEEF8EFB748EF5318770CEBB2F218E241827E9109BF568AD73B2785DB6',X'36E14CD3565B0847E0FB683A378E652EBB8204FF2DBE3FFEC40BE2C1BEC228AF');
INSERT INTO "journal" VALUES(29,'2026-11-27T10:25:10.723021805Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'36E14CD3565B0847E0FB683A378E652EBB8204FF2DBE3FFEC40BE2C1BEC228AF',X'65156AF382735E48948E88441E03898800B9A8F54E57A83017E4F26BBF8244E6');
INSERT INTO "journal" VALUES(30,'2026-11-27T10:25:10.723823242Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'65156AF382735E48948E88441E03898800B9A8F54E57A83017E4F26BBF8244E6',X'BFD90ED3D65734140E3A2D8D5B5BA5299F103BAD101C296BD94F526D790095E1');
INSERT INTO "journal" VALUES(31,'2026-11-27T10:25:10.724703808Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2,"permissions":"acl","ownership":"mapped"}}]',X'BFD90ED3D65734140E3A2D8D5B5BA5299F103BAD101C296BD94F526D790095E1',X'A9E5470D6429B698BDB30B13125A05733D444F1E418C46B92AF49EC4ECE2F05B');
INSERT INTO "journal" VALUES(32,'2026-11-27T10:25:10.725691357Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'A9E5470D6429B698BDB30B13125A05733D444F1E418C46B92AF49EC4ECE2F05B',X'6491A9D628CB8B40F647B817CED432E84F5FC7C4FBBFDDCB982CD63C46E7293F');
INSERT INTO "journal" VALUES(33,'2026-11-27T10:25:10.726731031Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'6491A9D628CB8B40F647B817CED432E84F5FC7C4FBBFDDCB982CD63C46E7293F',X'0C38E58FE361826019DC44ACF8D028A7EFE342D3820C3E39DE395D5B6C0BB105');
INSERT INTO "journal" VALUES(34,'2026-11-27T10:25:10.727635714Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'0C38E58FE361826019DC44ACF8D028A7EFE342D3820C3E39DE395D5B6C0BB105',X'55625E7A38FEBB71CF34C11FC4E2180AEF462224C494025D6D523515440A8886');
INSERT INTO "journal" VALUES(35,'2026-11-27T10:25:10.72851335Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'55625E7A38FEBB71CF34C11FC4E2180AEF462224C494025D6D523515440A8886',X'00D9EC24435CDA260DEB9D6110F673D42B9773B071480BE642A48C5099819BE1');
INSERT INTO "journal" VALUES(36,'2026-11-27T10:25:10.729420226Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'00D9EC24435CDA260DEB9D6110F673D42B9773B071480BE642A48C5099819BE1',X'0582ED8FF84551D69A65F34E663A9DB144CE685742C5A1C8A5E5493419734FDC');
INSERT INTO "journal" VALUES(37,'2026-11-27T10:25:10.730372776Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'0582ED8FF84551D69A65F34E663A9DB144CE685742C5A1C8A5E5493419734FDC',X'17193EF7FC91C875338E87D02C7D6AC3927B8759492A2F24A35D74801ABDDA7D');
INSERT INTO "journal" VALUES(38,'2026-11-27T10:25:10.731297397Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'17193EF7FC91C875338E87D02C7D6AC3927B8759492A2F24A35D74801ABDDA7D',X'B3A6A49F9E645C5A947EBB13AEA7FF4C96BEBF8DF8E7CEEF7313A9C0A6C9B9B8');
INSERT INTO "journal" VALUES(39,'2026-11-27T10:25:10.732161092Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'B3A6A49F9E645C5A947EBB13AEA7FF4C96BEBF8DF8E7CEEF7313A9C0A6C9B9B8',X'B28A50A238E88BBE1DB9CE193B94631B45F4BDEA14A6033399EFB2E2B1139CBB');
INSERT INTO "journal" VALUES(40,'2026-11-27T10:25:10.733245303Z','service','add export','/instruments','[{"kind":"export","id":1,"after":{"id":1,"path":"/instruments","folderId":2,"rules":[{"id":4,"from":"@dome-hosts"}]}}]',X'B28A50A238E88BBE1DB9CE193B94631B45F4BDEA14A6033399EFB2E2B1139CBB',X'62F6ACC770C0C9F9FB6E14AB6506A05180E95B156600FD7DB8FDE93DFE86E2B5');
INSERT INTO "journal" VALUES(41,'2026-11-27T10:25:10.734196034Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3,"permissions":"acl","ownership":"mapped"}}]',X'62F6ACC770C0C9F9FB6E14AB6506A05180E95B156600FD7DB8FDE93DFE86E2B5',X'BA16246AAD2C6E83B75E4AF7FFCF33378C2AEDD72101847AFE7EB9663A27259E');
INSERT INTO "journal" VALUES(42,'2026-11-27T10:25:10.735211074Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'BA16246AAD2C6E83B75E4AF7FFCF33378C2AEDD72101847AFE7EB9663A27259E',X'82AE5B5219BA6AA9A3BDBB5361111CB64E4EBC8E431EA95B1884F7B795974252');
INSERT INTO "journal" VALUES(43,'2026-11-27T10:25:10.736185054Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'82AE5B5219BA6AA9A3BDBB5361111CB64E4EBC8E431EA95B1884F7B795974252',X'A31201D26AC9A16DEE6FE375451C5065C6E3AFC157CBB42107816ECB23908F5A');
INSERT INTO "journal" VALUES(44,'2026-11-27T10:25:10.73712945Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'A31201D26AC9A16DEE6FE375451C5065C6E3AFC157CBB42107816ECB23908F5A',X'1E855C605640FC37CDAE9F805000B5DC5A6B21BC20B460A5C553CB8C14D993CB');
INSERT INTO "journal" VALUES(45,'2026-11-27T10:25:10.738032633Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'1E855C605640FC37CDAE9F805000B5DC5A6B21BC20B460A5C553CB8C14D993CB',X'C2F11BB6BEEFC9C142B7D301CA14AC972FE606B5EBB62BD4A204723ECFB1B92C');
INSERT INTO "journal" VALUES(46,'2026-11-27T10:25:10.739279267Z','service','add export','/plates','[{"kind":"export","id":2,"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'C2F11BB6BEEFC9C142B7D301CA14AC972FE606B5EBB62BD4A204723ECFB1B92C',X'D7F053B3A0EB2FEE1E6CEAD20BD0B5101078DE462B700CC5EA339A5C39BEB668');
INSERT INTO "journal" VALUES(47,'2026-11-27T10:25:10.740278147Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5,"permissions":"acl","ownership":"mapped"}}]',X'D7F053B3A0EB2FEE1E6CEAD20BD0B5101078DE462B700CC5EA339A5C39BEB668',X'648517927B83122B20743183B28482A7424E41B3DB131006EA112EC5F239F702');
INSERT INTO "journal" VALUES(48,'2026-11-27T10:25:10.741330411Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'648517927B83122B20743183B28482A7424E41B3DB131006EA112EC5F239F702',X'9AC1EA5DB92736441514DDE94E9803F01852CCB6327AF8ED5117ED76E4AEE36E');
INSERT INTO "journal" VALUES(49,'2026-11-27T10:25:10.742354006Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'9AC1EA5DB92736441514DDE94E9803F01852CCB6327AF8ED5117ED76E4AEE36E',X'DBDE692D1F9E3BCE308D1739793A8CD5DBC7BA22A0CE68E2095F16DF9BB0672E');
INSERT INTO "journal" VALUES(50,'2026-11-27T10:25:10.743339968Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'DBDE692D1F9E3BCE308D1739793A8CD5DBC7BA22A0CE68E2095F16DF9BB0672E',X'7AAB3D55D7688C395807B33A068867F0105B658CB453AC1BA7890F9964E70A9C');
INSERT INTO "journal" VALUES(51,'2026-11-27T10:25:10.744421193Z','service','add export','/visitors','[{"kind":"export","id":3,"after":{"id":3,"path":"/visitors","folderId":4,"rules":[{"id":8,"from":"*","write":true,"squash":"none","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'7AAB3D55D7688C395807B33A068867F0105B658CB453AC1BA7890F9964E70A9C',X'E7315D4D91CBFF4E309750807A039D1A95BE91FEF944EE7946393EB3F31D4C41');
INSERT INTO "journal" VALUES(52,'2026-11-27T10:25:10.745406236Z','service','add folder','scratch','[{"kind":"folder","id":5,"after":{"id":5,"name":"scratch","volumeId":1,"path":"scratch","description":"Room for the reduction hosts; nothing here is kept","owner":11,"group":4,"permissions":"unix","ownership":"mapped"}}]',X'E7315D4D91CBFF4E309750807A039D1A95BE91FEF944EE7946393EB3F31D4C41',X'E2FB466547D599C35E69F7D18FF8AF2A0B712823FCC100DA4396BC1BEF971289');
INSERT INTO "journal" VALUES(53,'2026-11-27T10:25:10.746419086Z','service','set mode','scratch','[]',X'E2FB466547D599C35E69F7D18FF8AF2A0B712823FCC100DA4396BC1BEF971289',X'B2E3D4DB9BC3CE4814FEC24BC12D00DE6E10A0191AC14650B30544B6C5EE4A46');
INSERT INTO "journal" VALUES(54,'2026-11-27T10:25:10.747590813Z','service','add export','/scratch','[{"kind":"export","id":4,"after":{"id":4,"path":"/scratch","folderId":5,"rules":[{"id":9,"from":"@reduction-hosts"},{"id":10,"from":"127.0.0.1","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"number"}]}}]',X'B2E3D4DB9BC3CE4814FEC24BC12D00DE6E10A0191AC14650B30544B6C5EE4A46',X'1147F7A28972ACD39B2674D79633DD23D64B01A1941AC8066E5D05E187FFAE9C');
INSERT INTO "journal" VALUES(55,'2026-11-27T10:25:10.748597882Z','service','add folder','personal','[{"kind":"folder","id":6,"after":{"id":6,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4,"permissions":"acl","ownership":"mapped"}}]',X'1147F7A28972ACD39B2674D79633DD23D64B01A1941AC8066E5D05E187FFAE9C',X'FC350D8EC7B3311052EC3F36DB9D476318468237F10DE29A26C4A3102CCD9ADE');
INSERT INTO "journal" VALUES(56,'2026-11-27T10:25:10.749611154Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":6,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'FC350D8EC7B3311052EC3F36DB9D476318468237F10DE29A26C4A3102CCD9ADE',X'103ED58A96032949897145459396D303D46AC8AF5C4B06C429574F0F0B0D3CB2');
INSERT INTO "journal" VALUES(57,'2026-11-27T10:25:10.75070966Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":6,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'103ED58A96032949897145459396D303D46AC8AF5C4B06C429574F0F0B0D3CB2',X'873894F9415FE1EB73DD9843EB55BE792205B5F17EECBDCCE908C35EE62277EB');
INSERT INTO "journal" VALUES(58,'2026-11-27T10:25:10.751771941Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":6,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'873894F9415FE1EB73DD9843EB55BE792205B5F17EECBDCCE908C35EE62277EB',X'9762E04AAD95414A9944B8546EEED24B144A589208D40880B4D9F4095C7417D8');
INSERT INTO "journal" VALUES(59,'2026-11-27T10:25:10.752802883Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":6,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'9762E04AAD95414A9944B8546EEED24B144A589208D40880B4D9F4095C7417D8',X'BE048C748C4D8E9826F0F1D4990F1252D85CEED4E4A74EEB38FEACD32E60BF78');
INSERT INTO "journal" VALUES(60,'2026-11-27T10:25:10.75389442Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":6,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'BE048C748C4D8E9826F0F1D4990F1252D85CEED4E4A74EEB38FEACD32E60BF78',X'5DD674CC82C2AF6F3E283361D2A603005C2272E5B75B28B1B5CD39290CFC5BBF');
INSERT INTO "journal" VALUES(61,'2026-11-27T10:25:10.75495969Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":6,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'5DD674CC82C2AF6F3E283361D2A603005C2272E5B75B28B1B5CD39290CFC5BBF',X'F9708DC66730FFF4149F22264D723ABDDB20797F3F55865330C937E0BE0F5BBE');
INSERT INTO "journal" VALUES(62,'2026-11-27T10:25:10.755944073Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":6,"announced":true,"listOnlyOpenable":true}}]',X'F9708DC66730FFF4149F22264D723ABDDB20797F3F55865330C937E0BE0F5BBE',X'C7DC6E9114F2216EE18EB79BADFC196654195E69BC230CA962AD115CE762587C');
INSERT INTO "journal" VALUES(63,'2026-11-27T10:25:10.756935672Z','service','switch service on','nfs','[{"kind":"services","id":1,"before":{"smb":true,"nfs":false},"after":{"smb":true,"nfs":true}}]',X'C7DC6E9114F2216EE18EB79BADFC196654195E69BC230CA962AD115CE762587C',X'C81E2591ACE9AC8EB2E4495860910EC45521B525108081694B3359B1021B032A');
INSERT INTO "journal" VALUES(64,'2026-11-27T10:25:10.813509569Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'C81E2591ACE9AC8EB2E4495860910EC45521B525108081694B3359B1021B032A',X'1929D464271D3ECDC11DB7BE052C5866047772F0DA5B5449CD98F59A380CF6F6');
INSERT INTO "journal" VALUES(65,'2026-11-27T10:25:10.827773771Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":19,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'1929D464271D3ECDC11DB7BE052C5866047772F0DA5B5449CD98F59A380CF6F6',X'C12EC44C20382E2BDD36FE3EEE1A2C02887C623CC04F503146DF1AE01B0DCBE6');
INSERT INTO "journal" VALUES(66,'2026-11-27T10:25:10.842155264Z','keeper','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":8},"level":2,"applies":7,"note":"for the spring run"}]}}]',X'C12EC44C20382E2BDD36FE3EEE1A2C02887C623CC04F503146DF1AE01B0DCBE6',X'4D3E979F97A78455ABE56D85A10E285A256FEC206B3BE3160A7BD1AAA8A3D693');
INSERT INTO "journal" VALUES(67,'2026-11-27T10:25:10.857005212Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'4D3E979F97A78455ABE56D85A10E285A256FEC206B3BE3160A7BD1AAA8A3D693',X'287064A234744E341BA0263E7FA3268E40D46891E450FDE3DC80E6A0B2821B05');
INSERT INTO "journal" VALUES(68,'2026-11-27T10:25:10.871220842Z','keeper','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'287064A234744E341BA0263E7FA3268E40D46891E450FDE3DC80E6A0B2821B05',X'CFDA69E518ACA260B981A03CB3EA5E4C9ABAB649223474432EEBE0834D3CAB3F');
INSERT INTO "journal" VALUES(69,'2026-11-27T10:25:10.885434346Z','keeper','add client rule','/plates','[{"kind":"export","id":2,"before":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]},"after":{"id":2,"path":"/plates","folderId":3,"description":"Raw plates, as the dome writes them","rules":[{"id":5,"from":"@dome-hosts"},{"id":6,"from":"192.0.2.0/24","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":7,"from":"127.0.0.1","squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"},{"id":11,"from":"192.0.2.99","write":true,"squash":"root","anonUid":65534,"anonGid":65534,"security":["sys"],"unknown":"refused"}]}}]',X'CFDA69E518ACA260B981A03CB3EA5E4C9ABAB649223474432EEBE0834D3CAB3F',X'66D7F3639C1EBF30566F3AB7C3B225AF0E6C4DC4584126B927E3B13D04EC9D99');
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
INSERT INTO "sessions" VALUES(X'A29047EAFFDD4DA049AD1EF104C87FC51116BC2C1DCB74B8DBE33342F67FFC6B',1,'2026-11-27T10:25:10Z','2026-11-27T22:25:10Z');
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
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$5xlazHzrVGpOEQR6oJ5fZw$WNTMUUcSBnukQ0KItxR5cJtY4+UXrPUsZROYRaHE/CU',X'F88E6E1EE8171B6B0E44677C5C13B2EF2AA92FDDE0996F5CB2C05D781F8095EEDBF7D6327147552C1A0E3DFC');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$0OCUk6U0oHSf4yHfU0v5wA$zMdgPr/3CS1YHsDIRkE9uQrJhgeFgnq0qX5ly0w5C20',X'84162853CAACFD5D6D0E8F2087BE69C6AD6417FB036C60572D8EAC70E88A7CF94A980B47F4F1493BF4563391');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$lQiFlO5BVW1CVjlGg5MAJQ$1PvKtf3t9yojOAJF1t+kQKhcfYliOoNIDZLy/kh5rR4',X'9B284E08B3D44761D2FF42EEAF44CC66ED2953F6BC533D4E57B5BDBC9FF9108F5D10897DA6B91B60DA29803D');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$lVEF3PDu7mg8OnExSqPCwA$jPzygdyRn3YmDVJMKGGwm4IhN3/Ov7wFM0DxXAmBUbc',X'1C8572953B53CAF03E2008A9DEA222DA749E2CBB7B3F636AFC5C1DE88B22D1B234A7E91D21D3D4F368161B11');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$eSvuz+DcKoizR8/hDG9UBw$thve/dVK80EZ5TLt+ioLjnV3UK2qLyRX/oQVj3uW/cY',X'22DA513C8C748ACAF4BED5B00354927CB17E8EBE3556AB40036FB8EBFF48B3B09A0AAB027594C5849B343201');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$zGUlF+5OjLYcNtJSDaqEkg$FUQss2dEg0JI++C04X4syZ+TsMnwG4KvCl+a3U4kPDs',X'FAE769C37909550D37013615CC329D0DAD0BFBB76B4C5A1527714CE7EB107A80D5CBD2760403F6DDF4094C4A');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$YsyYaYylJc43MGUeWON/oQ$9DwO4IlnuY3FuziOLmiMuUjFl/RteVcNt0bUDMEsWNw',X'6C336EED39BA5A430122E7469A7FBE4CD528A6412BD84A3C7801366D1F26477BCA8EA91C01528D482037C672');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$j2jU21siMULaI9IWw5p3TA$65CV4n9scYJJIHkcpbloxUSshQWaLxJkv2Ta/fff9KM',X'E4423D631C88119BBA35FF2A2366394D12B4084C8521840D14026795C966F117C153175BC9D10E1064FF32DC');
INSERT INTO "users" VALUES(9,'corin','Corin Vale',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$7jlwJXutwr15d34vjXeXng$YlR0O3THAC0hNjJ5pntjv6XCgz2/9/NP9xzJwOWzo28',X'9FFDE625E70EAB6C09D492620A6438009945FD05633877344DA08267D3FC9F5CA82942265EFB2695705C4F07');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,3,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$uc6helIpNMWUlxTKY/TOeQ$KC8Yz5MncBXJsU5ZZJiTb3d9yjmdeQ+0H3nYiw9Qi1w',X'53B2E958CEF66990B00EF25493FBF9347597915265105548C99D7A8D801DA95768E696E421F64D3AA29FA179');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,1,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$/IZf4oZsOpivwWHLKZaijw$7UYVnX88mTz9vlOfvapT0mWaKjRLXPPm2XRKlfN+s3Y',X'428C24D6206CF7554462136226DC64F4E0E54E86984404890DCBEAE95D6B9D353053DC69E466086163A37415');
INSERT INTO "users" VALUES(12,'lunt','Lunt Harrow',2103,NULL,'',0,0,NULL,1,1,NULL,NULL);
CREATE TABLE volumes (
    id   INTEGER PRIMARY KEY AUTOINCREMENT,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE,
    path TEXT NOT NULL UNIQUE
) STRICT;
INSERT INTO "volumes" VALUES(1,'summit','/srv/larkfell/state/volumes/summit');
CREATE UNIQUE INDEX places_root ON places (folder_id) WHERE parent_id IS NULL;
CREATE INDEX entries_place ON entries (place_id);
CREATE INDEX entries_share ON entries (share_id);
CREATE INDEX client_rules_export ON client_rules (export_id);
CREATE INDEX client_rules_set ON client_rules (set_id);
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',3);
INSERT INTO "sqlite_sequence" VALUES('groups',5);
INSERT INTO "sqlite_sequence" VALUES('users',12);
INSERT INTO "sqlite_sequence" VALUES('volumes',1);
INSERT INTO "sqlite_sequence" VALUES('host_sets',2);
INSERT INTO "sqlite_sequence" VALUES('client_rules',11);
INSERT INTO "sqlite_sequence" VALUES('folders',6);
INSERT INTO "sqlite_sequence" VALUES('places',13);
INSERT INTO "sqlite_sequence" VALUES('entries',20);
INSERT INTO "sqlite_sequence" VALUES('shares',5);
INSERT INTO "sqlite_sequence" VALUES('exports',4);
COMMIT;
