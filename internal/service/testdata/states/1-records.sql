BEGIN TRANSACTION;
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
CREATE TABLE folders (
    id          INTEGER PRIMARY KEY AUTOINCREMENT,
    name        TEXT NOT NULL UNIQUE COLLATE NOCASE,
    volume_id   INTEGER NOT NULL REFERENCES volumes (id),
    path        TEXT NOT NULL,
    description TEXT NOT NULL DEFAULT '',
    owner_id    INTEGER REFERENCES users (id),
    group_id    INTEGER REFERENCES groups (id),
    UNIQUE (volume_id, path)
) STRICT;
INSERT INTO "folders" VALUES(1,'nightlog',1,'nightlog','The observers'' log of each night',3,1);
INSERT INTO "folders" VALUES(2,'instruments',1,'instruments','Manuals, calibration and firmware',3,2);
INSERT INTO "folders" VALUES(3,'plates',1,'plates','The raw archive; what is added is never altered',3,3);
INSERT INTO "folders" VALUES(4,'visitors',1,'visitors','Visiting observers leave their data here',3,5);
INSERT INTO "folders" VALUES(5,'personal',1,'personal','One directory each, seen by its owner only',3,4);
CREATE TABLE goose_db_version (
		id INTEGER PRIMARY KEY AUTOINCREMENT,
		version_id INTEGER NOT NULL,
		is_applied INTEGER NOT NULL,
		tstamp TIMESTAMP DEFAULT (datetime('now'))
	);
INSERT INTO "goose_db_version" VALUES(1,0,1,'2026-11-27 10:25:09');
INSERT INTO "goose_db_version" VALUES(2,1,1,'2026-11-27 10:25:09');
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
INSERT INTO "journal" VALUES(1,'2026-11-27T10:25:09.467232382Z','service','begin','','[{"kind":"services","id":1,"before":{"smb":false,"nfs":false},"after":{"smb":true,"nfs":false}}]',X'0000000000000000000000000000000000000000000000000000000000000000',X'B17259D0D2BB6AF692AC616BD20E0C11756EEF6587A7380F46E876E3F748F4E8');
INSERT INTO "journal" VALUES(2,'2026-11-27T10:25:09.469438002Z','service','add group','observers','[{"kind":"group","id":1,"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers"}}]',X'B17259D0D2BB6AF692AC616BD20E0C11756EEF6587A7380F46E876E3F748F4E8',X'C00463D673C8930364080D2CD43EEB9B17BA63E846D31620F862C690EBC3E015');
INSERT INTO "journal" VALUES(3,'2026-11-27T10:25:09.470220095Z','service','add group','engineers','[{"kind":"group","id":2,"after":{"id":2,"name":"engineers","gid":3002,"description":"Instrument engineers"}}]',X'C00463D673C8930364080D2CD43EEB9B17BA63E846D31620F862C690EBC3E015',X'1CB4138CBA7A287742095E75C1A984D2BB21ABDE47F61CE9DDC4CB0EA7415CB0');
INSERT INTO "journal" VALUES(4,'2026-11-27T10:25:09.470850891Z','service','add group','archive','[{"kind":"group","id":3,"after":{"id":3,"name":"archive","gid":3003,"description":"Keepers of the plate archive"}}]',X'1CB4138CBA7A287742095E75C1A984D2BB21ABDE47F61CE9DDC4CB0EA7415CB0',X'301E7055F62E7909FF3DA0632E76C1351DAFC67FFFF993CF59A66D656BB169AB');
INSERT INTO "journal" VALUES(5,'2026-11-27T10:25:09.471554821Z','service','add group','staff','[{"kind":"group","id":4,"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"}}]',X'301E7055F62E7909FF3DA0632E76C1351DAFC67FFFF993CF59A66D656BB169AB',X'5A088BC85210CB3F414DC61AFD324082B2CAC69B4276C23AFB6810A6853B064A');
INSERT INTO "journal" VALUES(6,'2026-11-27T10:25:09.472213622Z','service','add group','visitors','[{"kind":"group","id":5,"after":{"id":5,"name":"visitors","gid":3010,"description":"Visiting observers"}}]',X'5A088BC85210CB3F414DC61AFD324082B2CAC69B4276C23AFB6810A6853B064A',X'6F2E90719179C96AE6ECB3300AE3941240F568D03D0D5C8A4068A1BC0D4C5776');
INSERT INTO "journal" VALUES(7,'2026-11-27T10:25:09.52893715Z','service','add user','keeper','[{"kind":"user","id":1,"after":{"role":"administrator","id":1,"name":"keeper","fullName":"Keeper of the gateway","uid":1900}}]',X'6F2E90719179C96AE6ECB3300AE3941240F568D03D0D5C8A4068A1BC0D4C5776',X'C56BD02BEAF11482ACF7A6D90C3442BBD8E1B6EA8EF6B5E9767BF22B8F134B54');
INSERT INTO "journal" VALUES(8,'2026-11-27T10:25:09.584770305Z','service','add user','auditor','[{"kind":"user","id":2,"after":{"role":"auditor","id":2,"name":"auditor","fullName":"Auditor","uid":1901}}]',X'C56BD02BEAF11482ACF7A6D90C3442BBD8E1B6EA8EF6B5E9767BF22B8F134B54',X'FE9A343EA2D9775A69B168D25AABA37D49CFD2A5D762F1D95C33064E2C6C7375');
INSERT INTO "journal" VALUES(9,'2026-11-27T10:25:09.641524011Z','service','add user','wren','[{"kind":"user","id":3,"after":{"id":3,"name":"wren","fullName":"Wren Aldous","uid":2001,"primary":4,"smb":true,"nfs":true}}]',X'FE9A343EA2D9775A69B168D25AABA37D49CFD2A5D762F1D95C33064E2C6C7375',X'6DC747D4D9394B6CF3A483CF850DE3D898E4CF653315354AB9A43061908B79EA');
INSERT INTO "journal" VALUES(10,'2026-11-27T10:25:09.68497417Z','service','add user','isolde','[{"kind":"user","id":4,"after":{"id":4,"name":"isolde","fullName":"Isolde Marchetti","uid":2002,"primary":1,"smb":true,"nfs":true}}]',X'6DC747D4D9394B6CF3A483CF850DE3D898E4CF653315354AB9A43061908B79EA',X'2D67AA942E0B110ED224BCAAA531E50937E039EC70D55129BB071EB09B952EC7');
INSERT INTO "journal" VALUES(11,'2026-11-27T10:25:09.722436286Z','service','add user','piran','[{"kind":"user","id":5,"after":{"id":5,"name":"piran","fullName":"Piran Keast","uid":2003,"primary":1,"smb":true,"nfs":true}}]',X'2D67AA942E0B110ED224BCAAA531E50937E039EC70D55129BB071EB09B952EC7',X'016DCC02FD5BB613570B361D7AEB02869E382230CAEE7039635D1A9363FF2ECF');
INSERT INTO "journal" VALUES(12,'2026-11-27T10:25:09.762904145Z','service','add user','tomasz','[{"kind":"user","id":6,"after":{"id":6,"name":"tomasz","fullName":"Tomasz Wilk","uid":2004,"primary":2,"smb":true,"nfs":true}}]',X'016DCC02FD5BB613570B361D7AEB02869E382230CAEE7039635D1A9363FF2ECF',X'C60CF6F887F6C25F173C79428FC0AAB86992BF19A03A1C4F9FBF09F9B17C5D68');
INSERT INTO "journal" VALUES(13,'2026-11-27T10:25:09.81069009Z','service','add user','bettany','[{"kind":"user","id":7,"after":{"id":7,"name":"bettany","fullName":"Bettany Shaw","uid":2005,"primary":3,"smb":true,"nfs":true}}]',X'C60CF6F887F6C25F173C79428FC0AAB86992BF19A03A1C4F9FBF09F9B17C5D68',X'9B2CF5CCF47F6DC45D1D1976BE748B427390A5256CD4A8336FB53D605FD68E91');
INSERT INTO "journal" VALUES(14,'2026-11-27T10:25:09.84787161Z','service','add user','orla','[{"kind":"user","id":8,"after":{"id":8,"name":"orla","fullName":"Orla Finnegan","uid":2006,"primary":5,"expires":"2026-12-27T00:00:00Z","smb":true,"nfs":true}}]',X'9B2CF5CCF47F6DC45D1D1976BE748B427390A5256CD4A8336FB53D605FD68E91',X'3BF825D931AC06E9AA1D7AAC3879567616B1B28E5806889D872872D512F29010');
INSERT INTO "journal" VALUES(15,'2026-11-27T10:25:09.886285512Z','service','add user','corin','[{"kind":"user","id":9,"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true}}]',X'3BF825D931AC06E9AA1D7AAC3879567616B1B28E5806889D872872D512F29010',X'B2FB673B38F3149F29F94FE4B3F77649C6BDE367F395A615989047B41E288053');
INSERT INTO "journal" VALUES(16,'2026-11-27T10:25:09.887562049Z','service','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'B2FB673B38F3149F29F94FE4B3F77649C6BDE367F395A615989047B41E288053',X'AE42C3605C9CC51B1560831293097D8292227A37913D05C4300CF241441E38D0');
INSERT INTO "journal" VALUES(17,'2026-11-27T10:25:09.949640384Z','service','add user','svc-dome','[{"kind":"user","id":10,"after":{"id":10,"name":"svc-dome","fullName":"Dome control","uid":2101,"service":true,"nfs":true}}]',X'AE42C3605C9CC51B1560831293097D8292227A37913D05C4300CF241441E38D0',X'49EE31AEF70B9535E51775AC2C9EBAB7967DF0E2AEA0B7CC22CC3BAB7CA12F62');
INSERT INTO "journal" VALUES(18,'2026-11-27T10:25:09.995254636Z','service','add user','svc-reduce','[{"kind":"user","id":11,"after":{"id":11,"name":"svc-reduce","fullName":"Data reduction","uid":2102,"service":true,"nfs":true}}]',X'49EE31AEF70B9535E51775AC2C9EBAB7967DF0E2AEA0B7CC22CC3BAB7CA12F62',X'51370E88B98252507F5A716218A17D01AAF870E6328EE81C10FF54210FA3A3EC');
INSERT INTO "journal" VALUES(19,'2026-11-27T10:25:09.99618055Z','service','add member observers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell"},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]}}]',X'51370E88B98252507F5A716218A17D01AAF870E6328EE81C10FF54210FA3A3EC',X'1BB623DE3E96A40F8A63E2BEDB039F185F6E70F15F6C4E1C747E14AD3F6AD5C8');
INSERT INTO "journal" VALUES(20,'2026-11-27T10:25:09.996833513Z','service','add member engineers','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]}}]',X'1BB623DE3E96A40F8A63E2BEDB039F185F6E70F15F6C4E1C747E14AD3F6AD5C8',X'A5908189016E45987C81FE9E023E1BEECC232BF1427B87006F028CA4F95A9257');
INSERT INTO "journal" VALUES(21,'2026-11-27T10:25:09.997480853Z','service','add member archive','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]}}]',X'A5908189016E45987C81FE9E023E1BEECC232BF1427B87006F028CA4F95A9257',X'5A6E41DC85483F1082FB516A5BB624A6ECE76299F0578BD26D915B1DF4FAEE66');
INSERT INTO "journal" VALUES(22,'2026-11-27T10:25:09.998119431Z','service','add member wren','staff','[{"kind":"group","id":4,"before":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3}]},"after":{"id":4,"name":"staff","gid":3000,"description":"Everybody employed at Larkfell","members":[{"kind":2,"id":1},{"kind":2,"id":2},{"kind":2,"id":3},{"kind":1,"id":3}]}}]',X'5A6E41DC85483F1082FB516A5BB624A6ECE76299F0578BD26D915B1DF4FAEE66',X'4F1BEB1F2A692E2D54852E58DCC61BF5CD513703965200F8AFAE582A8691463C');
INSERT INTO "journal" VALUES(23,'2026-11-27T10:25:09.999679765Z','service','add volume','summit','[{"kind":"volume","id":1,"after":{"id":1,"name":"summit","path":"/srv/larkfell/state/volumes/summit"}}]',X'4F1BEB1F2A692E2D54852E58DCC61BF5CD513703965200F8AFAE582A8691463C',X'AB8F42225F6152152B05F8F2EE14B90B536894C0C87D6905A5C041AF3367870F');
INSERT INTO "journal" VALUES(24,'2026-11-27T10:25:10.000408763Z','service','add folder','nightlog','[{"kind":"folder","id":1,"after":{"id":1,"name":"nightlog","volumeId":1,"path":"nightlog","description":"The observers'' log of each night","owner":3,"group":1}}]',X'AB8F42225F6152152B05F8F2EE14B90B536894C0C87D6905A5C041AF3367870F',X'746B5D33A88BA37C1342899E07437E31DDB27817116FD6156DAEC1D3E1349317');
INSERT INTO "journal" VALUES(25,'2026-11-27T10:25:10.001205984Z','service','add entry','nightlog','[{"kind":"rule","id":1,"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]}}]',X'746B5D33A88BA37C1342899E07437E31DDB27817116FD6156DAEC1D3E1349317',X'C2C3951CF86CABE1A776414C2E29990CCA5641DB84A77B95562E533CC9101997');
INSERT INTO "journal" VALUES(26,'2026-11-27T10:25:10.001983263Z','service','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'C2C3951CF86CABE1A776414C2E29990CCA5641DB84A77B95562E533CC9101997',X'1A06125E46A29679266358E58A37DC8D4356C98299C1F498DCC6391017C005F1');
INSERT INTO "journal" VALUES(27,'2026-11-27T10:25:10.002750068Z','service','add share','nightlog','[{"kind":"share","id":1,"after":{"id":1,"name":"nightlog","folderId":1,"announced":true}}]',X'1A06125E46A29679266358E58A37DC8D4356C98299C1F498DCC6391017C005F1',X'68F908A1FEBA6AABEE7F5ED1F587ED2029E742EE2117751F5AAC822ACCCAAFD8');
INSERT INTO "journal" VALUES(28,'2026-11-27T10:25:10.003477989Z','service','add folder','instruments','[{"kind":"folder","id":2,"after":{"id":2,"name":"instruments","volumeId":1,"path":"instruments","description":"Manuals, calibration and firmware","owner":3,"group":2}}]',X'68F908A1FEBA6AABEE7F5ED1F587ED2029E742EE2117751F5AAC822ACCCAAFD8',X'1B4BCB4FE083E5B7411002F45B4D528BD498EBB0D1A71533242F2B24DF31044E');
INSERT INTO "journal" VALUES(29,'2026-11-27T10:25:10.004370701Z','service','cut inheritance','instruments/firmware','[{"kind":"rule","id":3,"after":{"folderId":2,"id":3,"path":"firmware","cut":true}}]',X'1B4BCB4FE083E5B7411002F45B4D528BD498EBB0D1A71533242F2B24DF31044E',X'0BC9C6699FFB0D215DA3AE3ACEBB51D4A52FC6062D114746F6C99EF1A1C2FEF5');
INSERT INTO "journal" VALUES(30,'2026-11-27T10:25:10.005269219Z','service','cut inheritance','instruments/firmware/bench','[{"kind":"rule","id":4,"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true}}]',X'0BC9C6699FFB0D215DA3AE3ACEBB51D4A52FC6062D114746F6C99EF1A1C2FEF5',X'84BACC9D947C19E775CD4B1A4FE0D4ED5176B27E37232928BD0C4370C8D8897D');
INSERT INTO "journal" VALUES(31,'2026-11-27T10:25:10.006030759Z','service','add entry','instruments','[{"kind":"rule","id":2,"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'84BACC9D947C19E775CD4B1A4FE0D4ED5176B27E37232928BD0C4370C8D8897D',X'7535718182B47D036C56A3675E2ECA78A32244576BEE87E087091294FE3C1600');
INSERT INTO "journal" VALUES(32,'2026-11-27T10:25:10.006822176Z','service','add entry','instruments','[{"kind":"rule","id":2,"before":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":2,"entries":[{"id":3,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":4,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'7535718182B47D036C56A3675E2ECA78A32244576BEE87E087091294FE3C1600',X'ECEA7477F882CC75DE314DF38F80298286781372EBF6685827AAD7043A12F67A');
INSERT INTO "journal" VALUES(33,'2026-11-27T10:25:10.007642532Z','service','add entry','instruments/firmware','[{"kind":"rule","id":3,"before":{"folderId":2,"id":3,"path":"firmware","cut":true},"after":{"folderId":2,"id":3,"path":"firmware","cut":true,"entries":[{"id":5,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'ECEA7477F882CC75DE314DF38F80298286781372EBF6685827AAD7043A12F67A',X'345CCF9C0D3800D771FCDD6FC8EFF012FF08BDBE946E7B040E272CC7DFF64BE1');
INSERT INTO "journal" VALUES(34,'2026-11-27T10:25:10.00846229Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]}}]',X'345CCF9C0D3800D771FCDD6FC8EFF012FF08BDBE946E7B040E272CC7DFF64BE1',X'3A51E3BF6F234AFF25599BFF20FDF34FABA77F0ABCA43A61C67D3A6113569739');
INSERT INTO "journal" VALUES(35,'2026-11-27T10:25:10.009277441Z','service','add entry','instruments/firmware/bench','[{"kind":"rule","id":4,"before":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7}]},"after":{"folderId":2,"id":4,"path":"firmware/bench","cut":true,"entries":[{"id":6,"who":{"kind":2,"id":2},"level":4,"applies":7},{"id":7,"who":{"kind":1,"id":4},"level":2,"applies":7,"note":"For the spring calibration"}]}}]',X'3A51E3BF6F234AFF25599BFF20FDF34FABA77F0ABCA43A61C67D3A6113569739',X'0E928AF2F1077C447B3E7722D205A8E1AF4E50B32AB5300F96D72608FCE116B6');
INSERT INTO "journal" VALUES(36,'2026-11-27T10:25:10.010086775Z','service','add share','instruments','[{"kind":"share","id":2,"after":{"id":2,"name":"instruments","folderId":2,"announced":true}}]',X'0E928AF2F1077C447B3E7722D205A8E1AF4E50B32AB5300F96D72608FCE116B6',X'4A56408EC2B239AAE53EEA249683A5F26F5A81CB4E5D7E0666E83AD6F3041028');
INSERT INTO "journal" VALUES(37,'2026-11-27T10:25:10.010829671Z','service','add folder','plates','[{"kind":"folder","id":3,"after":{"id":3,"name":"plates","volumeId":1,"path":"plates","description":"The raw archive; what is added is never altered","owner":3,"group":3}}]',X'4A56408EC2B239AAE53EEA249683A5F26F5A81CB4E5D7E0666E83AD6F3041028',X'0E28207C6EA380B79DD2C3D14D6A92E56FFD9F307794F82153B6A2B076C1816B');
INSERT INTO "journal" VALUES(38,'2026-11-27T10:25:10.011628472Z','service','add entry','plates','[{"kind":"rule","id":5,"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]}}]',X'0E28207C6EA380B79DD2C3D14D6A92E56FFD9F307794F82153B6A2B076C1816B',X'6DCE334CF7014F248BF279813A5DADB4CCC4C8DE0890DBF1E78E6E0A78DFF2F0');
INSERT INTO "journal" VALUES(39,'2026-11-27T10:25:10.012451936Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'6DCE334CF7014F248BF279813A5DADB4CCC4C8DE0890DBF1E78E6E0A78DFF2F0',X'E4E6E07874DBDD32C64397F3FA6467C6E3B127DB555CC543E3FC7E69BEDE9BC8');
INSERT INTO "journal" VALUES(40,'2026-11-27T10:25:10.013254528Z','service','add entry','plates','[{"kind":"rule","id":5,"before":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":3,"id":5,"entries":[{"id":8,"who":{"kind":2,"id":3},"level":3,"applies":7},{"id":9,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":10,"who":{"kind":1,"id":9},"level":2,"applies":7,"note":"A mistake to find; Corin has left"}]}}]',X'E4E6E07874DBDD32C64397F3FA6467C6E3B127DB555CC543E3FC7E69BEDE9BC8',X'6CB1A810303BE0896FDD077CFDA23A0ECAC1672C363ECADBEB302B77C2094460');
INSERT INTO "journal" VALUES(41,'2026-11-27T10:25:10.014138029Z','service','add share','plates','[{"kind":"share","id":3,"after":{"id":3,"name":"plates","folderId":3,"description":"Raw plates","announced":true}}]',X'6CB1A810303BE0896FDD077CFDA23A0ECAC1672C363ECADBEB302B77C2094460',X'6096E9A1CA845D8B90C7FA6A31E18E2C1459BA083C42EC0BE63C276690060B91');
INSERT INTO "journal" VALUES(42,'2026-11-27T10:25:10.014895036Z','service','add folder','visitors','[{"kind":"folder","id":4,"after":{"id":4,"name":"visitors","volumeId":1,"path":"visitors","description":"Visiting observers leave their data here","owner":3,"group":5}}]',X'6096E9A1CA845D8B90C7FA6A31E18E2C1459BA083C42EC0BE63C276690060B91',X'02456B32CFC5960580366B304CFB442CD94808EC779B17CCE96154EBF8A75F3D');
INSERT INTO "journal" VALUES(43,'2026-11-27T10:25:10.015755468Z','service','add entry','visitors','[{"kind":"rule","id":6,"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]}}]',X'02456B32CFC5960580366B304CFB442CD94808EC779B17CCE96154EBF8A75F3D',X'D588E3DA692B76904406C3373D6A3B9784724ED6F5F6774B8DF794A46B8668EF');
INSERT INTO "journal" VALUES(44,'2026-11-27T10:25:10.016559803Z','service','add entry','visitors','[{"kind":"rule","id":6,"before":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7}]},"after":{"folderId":4,"id":6,"entries":[{"id":11,"who":{"kind":2,"id":5},"level":3,"applies":7},{"id":12,"who":{"kind":2,"id":4},"level":2,"applies":7}]}}]',X'D588E3DA692B76904406C3373D6A3B9784724ED6F5F6774B8DF794A46B8668EF',X'4E119EDB5F0BE3B5F1B4CFDC70C4D72C1FBB33776F91982205ECA121532B7DF3');
INSERT INTO "journal" VALUES(45,'2026-11-27T10:25:10.01738167Z','service','add share','visitors','[{"kind":"share","id":4,"after":{"id":4,"name":"visitors","folderId":4,"announced":true}}]',X'4E119EDB5F0BE3B5F1B4CFDC70C4D72C1FBB33776F91982205ECA121532B7DF3',X'1D17671390612E0599EBA6BCEFAFDA6CF94B9006B6136A3C547AD95B16AADA4A');
INSERT INTO "journal" VALUES(46,'2026-11-27T10:25:10.018217002Z','service','add folder','personal','[{"kind":"folder","id":5,"after":{"id":5,"name":"personal","volumeId":1,"path":"personal","description":"One directory each, seen by its owner only","owner":3,"group":4}}]',X'1D17671390612E0599EBA6BCEFAFDA6CF94B9006B6136A3C547AD95B16AADA4A',X'18182C1BE9B8E28DA3F58466F22E441AAE93C4E1687E162F17A33F561DCDEEC0');
INSERT INTO "journal" VALUES(47,'2026-11-27T10:25:10.01911493Z','service','add entry','personal','[{"kind":"rule","id":7,"after":{"folderId":5,"id":7,"entries":[{"id":13,"who":{"kind":2,"id":4},"level":2,"applies":1}]}}]',X'18182C1BE9B8E28DA3F58466F22E441AAE93C4E1687E162F17A33F561DCDEEC0',X'C9F060F9DCC18F25E6AE13B70AB6EDC7A2CF6011A55B024FBCAD3A3FA3D1BA80');
INSERT INTO "journal" VALUES(48,'2026-11-27T10:25:10.019996643Z','service','add entry','personal/bettany','[{"kind":"rule","id":8,"after":{"folderId":5,"id":8,"path":"bettany","entries":[{"id":14,"who":{"kind":1,"id":7},"level":4,"applies":7}]}}]',X'C9F060F9DCC18F25E6AE13B70AB6EDC7A2CF6011A55B024FBCAD3A3FA3D1BA80',X'416539865BF65C9FECD400C3D70EF5DD3CAE32E0A1FA01C1345836FFDBDDD1E9');
INSERT INTO "journal" VALUES(49,'2026-11-27T10:25:10.020865652Z','service','add entry','personal/isolde','[{"kind":"rule","id":9,"after":{"folderId":5,"id":9,"path":"isolde","entries":[{"id":15,"who":{"kind":1,"id":4},"level":4,"applies":7}]}}]',X'416539865BF65C9FECD400C3D70EF5DD3CAE32E0A1FA01C1345836FFDBDDD1E9',X'F9585118231A55A2477BE7844EE9B890CDDEA6F147752EE5E8EDD659CD872FB1');
INSERT INTO "journal" VALUES(50,'2026-11-27T10:25:10.021804478Z','service','add entry','personal/piran','[{"kind":"rule","id":10,"after":{"folderId":5,"id":10,"path":"piran","entries":[{"id":16,"who":{"kind":1,"id":5},"level":4,"applies":7}]}}]',X'F9585118231A55A2477BE7844EE9B890CDDEA6F147752EE5E8EDD659CD872FB1',X'3F357B9AB25E9818E5B438B3B5BB037D89A06729A38BAE5718D1A7CCE729C373');
INSERT INTO "journal" VALUES(51,'2026-11-27T10:25:10.022732477Z','service','add entry','personal/tomasz','[{"kind":"rule","id":11,"after":{"folderId":5,"id":11,"path":"tomasz","entries":[{"id":17,"who":{"kind":1,"id":6},"level":4,"applies":7}]}}]',X'3F357B9AB25E9818E5B438B3B5BB037D89A06729A38BAE5718D1A7CCE729C373',X'96E1951B7B77903269F572D5E585E151AE2CE8B280AE327BE84BEC5F4E2F728C');
INSERT INTO "journal" VALUES(52,'2026-11-27T10:25:10.023619743Z','service','add entry','personal/wren','[{"kind":"rule","id":12,"after":{"folderId":5,"id":12,"path":"wren","entries":[{"id":18,"who":{"kind":1,"id":3},"level":4,"applies":7}]}}]',X'96E1951B7B77903269F572D5E585E151AE2CE8B280AE327BE84BEC5F4E2F728C',X'93221D8C734CB57DD2AC95431EBF5BCDA5200BD49266975599F3E6E2755A9A49');
INSERT INTO "journal" VALUES(53,'2026-11-27T10:25:10.024441271Z','service','add share','personal','[{"kind":"share","id":5,"after":{"id":5,"name":"personal","folderId":5,"announced":true,"listOnlyOpenable":true}}]',X'93221D8C734CB57DD2AC95431EBF5BCDA5200BD49266975599F3E6E2755A9A49',X'F93337F60E9CA60E302E739DAE24C84D327655C4D0C6518EEB1FE656E6BC38B0');
INSERT INTO "journal" VALUES(54,'2026-11-27T10:25:10.079553377Z','keeper','add user','lunt','[{"kind":"group","id":1,"before":{"id":1,"name":"observers","gid":3001,"description":"Night observers"},"after":{"id":1,"name":"observers","gid":3001,"description":"Night observers","members":[{"kind":1,"id":12}]}},{"kind":"user","id":12,"after":{"id":12,"name":"lunt","fullName":"Lunt Harrow","uid":2103,"smb":true,"nfs":true}}]',X'F93337F60E9CA60E302E739DAE24C84D327655C4D0C6518EEB1FE656E6BC38B0',X'491AB4FB6C412508ED46154496ED28F7E461B3A4DB874181638540115AA7F820');
INSERT INTO "journal" VALUES(55,'2026-11-27T10:25:10.094050127Z','keeper','add entry','nightlog/2026','[{"kind":"rule","id":13,"after":{"folderId":1,"id":13,"path":"2026","entries":[{"id":19,"deny":true,"who":{"kind":1,"id":12},"level":2,"applies":7}]}}]',X'491AB4FB6C412508ED46154496ED28F7E461B3A4DB874181638540115AA7F820',X'E8B61AD0D8D9DC429CB66E105FCF22734798D18F650704C855F0C35FF60F4670');
INSERT INTO "journal" VALUES(56,'2026-11-27T10:25:10.10837835Z','keeper','add entry','nightlog','[{"kind":"rule","id":1,"before":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7}]},"after":{"folderId":1,"id":1,"entries":[{"id":1,"who":{"kind":2,"id":1},"level":4,"applies":7},{"id":2,"who":{"kind":2,"id":4},"level":2,"applies":7},{"id":20,"who":{"kind":1,"id":8},"level":2,"applies":7,"note":"for the spring run"}]}}]',X'E8B61AD0D8D9DC429CB66E105FCF22734798D18F650704C855F0C35FF60F4670',X'0654CE12F589E3F0C4E1CEE25135C844F15A5B8E25A4AF2C30B204149D59BB2F');
INSERT INTO "journal" VALUES(57,'2026-11-27T10:25:10.121779706Z','keeper','change share','visitors','[{"kind":"share","id":4,"before":{"id":4,"name":"visitors","folderId":4,"announced":true},"after":{"id":4,"name":"visitors","folderId":4,"announced":true,"readOnly":true}}]',X'0654CE12F589E3F0C4E1CEE25135C844F15A5B8E25A4AF2C30B204149D59BB2F',X'7EE42AA6D8160F6BE8BC9E5100277D7C6F9E9A74E1C3499786F3647923AE84B4');
INSERT INTO "journal" VALUES(58,'2026-11-27T10:25:10.136101182Z','keeper','change user','corin','[{"kind":"user","id":9,"before":{"id":9,"name":"corin","fullName":"Corin Vale (left in spring)","uid":2007,"disabled":true,"smb":true,"nfs":true},"after":{"id":9,"name":"corin","fullName":"Corin Vale","uid":2007,"disabled":true,"smb":true,"nfs":true}}]',X'7EE42AA6D8160F6BE8BC9E5100277D7C6F9E9A74E1C3499786F3647923AE84B4',X'145242C9293BE0D90BAD50BEC1938640BA2DF108489E1305EB1B4431B876DB03');
CREATE TABLE members (
    group_id     INTEGER NOT NULL REFERENCES groups (id) ON DELETE CASCADE,
    user_id      INTEGER REFERENCES users (id) ON DELETE CASCADE,
    member_group INTEGER REFERENCES groups (id) ON DELETE CASCADE,
    CHECK ((user_id IS NULL) <> (member_group IS NULL)),
    UNIQUE (group_id, user_id),
    UNIQUE (group_id, member_group)
) STRICT;
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
INSERT INTO "places" VALUES(7,5,NULL,'',0);
INSERT INTO "places" VALUES(8,5,7,'bettany',0);
INSERT INTO "places" VALUES(9,5,7,'isolde',0);
INSERT INTO "places" VALUES(10,5,7,'piran',0);
INSERT INTO "places" VALUES(11,5,7,'tomasz',0);
INSERT INTO "places" VALUES(12,5,7,'wren',0);
INSERT INTO "places" VALUES(13,1,1,'2026',0);
CREATE TABLE services (
    protocol TEXT PRIMARY KEY CHECK (protocol IN ('smb', 'nfs')),
    is_on    INTEGER NOT NULL
) STRICT;
INSERT INTO "services" VALUES('smb',1);
INSERT INTO "services" VALUES('nfs',0);
CREATE TABLE sessions (
    token_hash BLOB PRIMARY KEY,                 -- SHA-256 of the token
    user_id    INTEGER NOT NULL REFERENCES users (id) ON DELETE CASCADE,
    created    TEXT NOT NULL,
    expires    TEXT NOT NULL
) STRICT;
INSERT INTO "sessions" VALUES(X'A28992A41900BEFF0F55C5C942303D3E130A6368921A26F3B67AFA9C1DA06942',1,'2026-11-27T10:25:10Z','2026-11-27T22:25:10Z');
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
INSERT INTO "shares" VALUES(5,'personal',5,'',1,0,1);
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
INSERT INTO "users" VALUES(1,'keeper','Keeper of the gateway',1900,NULL,'administrator',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$d6HOAKzgrRarOt7ht65igQ$thAwjFj1EGv0Ij9z2/YnqSfQnXEKCv6Et5B0sNW14n4',X'85601F33E69DD3F35B72DB8520797E303AA863C77C799C92F5251F398582F797E461BBE01559E5676B9433AC');
INSERT INTO "users" VALUES(2,'auditor','Auditor',1901,NULL,'auditor',0,0,NULL,0,0,'$argon2id$v=19$m=19456,t=2,p=1$u+gqpBt5U+2pRmqqQgx3cg$20SZj+OpP0S/0iGCdRE4VlgOZorxserEJ/R1+9/xSVg',X'61154EB985C6F063CB4DA02ACD5A078FDCC0E082B95DCF0ECD033D2D8C1E6C122020BE03E8E6D2DB33B71B43');
INSERT INTO "users" VALUES(3,'wren','Wren Aldous',2001,4,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$fVoVUCwHrknLBzca1p30Ow$7cVAIfa3CsUZsW69sLbOC62nefs78q4o+5VvtYEfP6s',X'3570A03D8D1F2C350FFBFF81196FAA230BDEC3337A4AC76ED68419E6792D97F0E98833B30460C1BB369AA416');
INSERT INTO "users" VALUES(4,'isolde','Isolde Marchetti',2002,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$EH778DR8LG9n4PN5WhFqzw$k2dkofHmNbiFwOQc8z14bO7FSuvSmiyJwwWkMjSDpxY',X'041D8DD19B2E0AA2DBF6A4C0ADBCA14A90C1BCBD291A84F76A6A7773F077047D47F9EE9C47179675095F9138');
INSERT INTO "users" VALUES(5,'piran','Piran Keast',2003,1,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$QC9kk1OMy2jVRIgR3Zzxlw$I/qqGCUDUfx3Vr8l/ht9ihT0BJ5V6zduayHBu5xzbmU',X'71835AD3ED466699A3FEA99B832075AB8EFF5966F59B56FAB6A51E7D5C617B7D454B5E23BAF19031ED8DECA5');
INSERT INTO "users" VALUES(6,'tomasz','Tomasz Wilk',2004,2,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$4OP22A64bkhnQZQmO26+mg$eGDz3BvUald8yFmqS25cSDww32BtlP7mqnRLvEvIJCA',X'DD4701AEA5DE2818238911EA19A7DCA889D155C25412EBC7245D02F1BAF93BE399B9075994F04B1CC82DAC48');
INSERT INTO "users" VALUES(7,'bettany','Bettany Shaw',2005,3,'',0,0,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$1bSxy0ATvTs76PisOjrqNQ$6H8BxzcbxjvK/GBooD9i3JLyRivBnJOQYAQF28G3HFo',X'AD5A701510992C5A11089AC78FE4F6EA0C9CD4E1A7D20B13925D69C52B8C3E4E00FD341CE1125AC74E991ADA');
INSERT INTO "users" VALUES(8,'orla','Orla Finnegan',2006,5,'',0,0,'2026-12-27T00:00:00Z',1,1,'$argon2id$v=19$m=19456,t=2,p=1$8M7B5r4ORtnz9cD2b8zPrA$TjSAKMjU/0TCoS42a8xLGw0TBpRrNCJQozazTlC4fYo',X'FCE82AEF104D599CC6C02E92FA169F8E9720FA559410224A00194F0AB1F5331DB333039A6D1A55EC53D25DD9');
INSERT INTO "users" VALUES(9,'corin','Corin Vale',2007,NULL,'',0,1,NULL,1,1,'$argon2id$v=19$m=19456,t=2,p=1$qwBZwHa5yZDFmIMMdthKeA$On9Aph2SwLsgfIB6z3j3TZ8PxQyzbyiReLIDXdjE6XU',X'6857B2139057CA0C8A27FB15FB2998D0004C55DBB80775350FBF8C69AAAD26B96FFAF1B2D90C1AAA6579263D');
INSERT INTO "users" VALUES(10,'svc-dome','Dome control',2101,NULL,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$RV01iEQgw4KOdQ61ZQJy4A$84H3G53KH/m0PnFCAa3ICcuNanm7wXWb9KVLxOJwOgs',X'3FFCBF6AB45FB836825DBABA5465B525248FBBE06764257150D7A3A7E37A72C4D78F7E0C4FED961AE02ED2F5');
INSERT INTO "users" VALUES(11,'svc-reduce','Data reduction',2102,NULL,'',1,0,NULL,0,1,'$argon2id$v=19$m=19456,t=2,p=1$UZiFo1CA8ZveLwZ6dLKZHA$ulLIN9LEeIenVMcYhsYpavJqN+9IxlzO8iqt6enD4Z8',X'A25617F18BD432FD14D09654761285CA55E7FAD7101C0C35818823A2D1CC1677343F97303B141A13F6F2535A');
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
DELETE FROM "sqlite_sequence";
INSERT INTO "sqlite_sequence" VALUES('goose_db_version',2);
INSERT INTO "sqlite_sequence" VALUES('groups',5);
INSERT INTO "sqlite_sequence" VALUES('users',12);
INSERT INTO "sqlite_sequence" VALUES('volumes',1);
INSERT INTO "sqlite_sequence" VALUES('folders',5);
INSERT INTO "sqlite_sequence" VALUES('places',13);
INSERT INTO "sqlite_sequence" VALUES('entries',20);
INSERT INTO "sqlite_sequence" VALUES('shares',5);
COMMIT;
