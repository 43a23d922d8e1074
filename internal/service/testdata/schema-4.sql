CREATE TABLE `account` (
  `name` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `role` varchar(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `person` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT '',
  `password` varchar(200) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `disabled` tinyint(1) NOT NULL DEFAULT 0,
  `version` bigint(20) unsigned NOT NULL DEFAULT 1,
  PRIMARY KEY (`name`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `account` VALUES ('harbour','administrator','','$argon2id$v=19$m=65536,t=3,p=4$kfNcNjNY3Dm04BRmGv86VA$TAEi5lGDTzN0GB34A3WJRV//ZY2H6s2GBTiqkVUOv9A',0,1);
CREATE TABLE `carried` (
  `one` tinyint(3) unsigned NOT NULL CHECK (`one` = 1),
  `at` bigint(20) NOT NULL,
  `address` varchar(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  PRIMARY KEY (`one`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
CREATE TABLE `door_asked` (
  `who` varchar(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `at` bigint(20) NOT NULL,
  KEY `by_who` (`who`,`at`),
  KEY `by_at` (`at`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
CREATE TABLE `door_code` (
  `address` varchar(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `salt` binary(16) NOT NULL,
  `hash` binary(32) NOT NULL,
  `ends` bigint(20) NOT NULL,
  `tries` int(10) unsigned NOT NULL,
  PRIMARY KEY (`address`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
CREATE TABLE `door_key` (
  `secret` binary(32) NOT NULL,
  `address` varchar(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `ends` bigint(20) NOT NULL,
  PRIMARY KEY (`secret`),
  KEY `by_address` (`address`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
CREATE TABLE `goose_db_version` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `version_id` bigint(20) NOT NULL,
  `is_applied` tinyint(1) NOT NULL,
  `tstamp` datetime DEFAULT current_timestamp(),
  PRIMARY KEY (`id`)
) ENGINE=InnoDB AUTO_INCREMENT=6 DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
INSERT INTO `goose_db_version` VALUES (1,0,1,'2026-11-29 05:37:38');
INSERT INTO `goose_db_version` VALUES (2,1,1,'2026-11-29 05:37:38');
INSERT INTO `goose_db_version` VALUES (3,2,1,'2026-11-29 05:37:38');
INSERT INTO `goose_db_version` VALUES (4,3,1,'2026-11-29 05:37:38');
INSERT INTO `goose_db_version` VALUES (5,4,1,'2026-11-29 05:37:38');
CREATE TABLE `grant` (
  `party` varchar(260) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `resource_kind` tinyint(3) unsigned NOT NULL,
  `resource` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `role` tinyint(3) unsigned NOT NULL,
  `starts` bigint(20) NOT NULL,
  `from_seq` bigint(20) unsigned NOT NULL,
  `until_seq` bigint(20) unsigned NOT NULL DEFAULT 18446744073709551615,
  `ends` bigint(20) NOT NULL,
  `sponsor` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `reviewed` bigint(20) NOT NULL,
  PRIMARY KEY (`party`,`resource`,`resource_kind`,`role`,`starts`,`from_seq`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `grant` VALUES ('a@ilvane.example',6,'board',3,1790895600000000,25,18446744073709551615,9223372036854775807,'theo',-9223372036854775808);
INSERT INTO `grant` VALUES ('a@ilvane.example',7,'dossier',2,1790895600000000,23,18446744073709551615,9223372036854775807,'uma',-9223372036854775808);
INSERT INTO `grant` VALUES ('a@ilvane.example',4,'todo',2,1790895600000000,26,18446744073709551615,9223372036854775807,'uma',-9223372036854775808);
INSERT INTO `grant` VALUES ('a@ilvane.example',5,'visits',1,1790895600000000,24,18446744073709551615,9223372036854775807,'theo',-9223372036854775808);
INSERT INTO `grant` VALUES ('b@ilvane.example',2,'list',1,1792450800000000,27,18446744073709551615,9223372036854775807,'theo',-9223372036854775808);
INSERT INTO `grant` VALUES ('b@ilvane.example',1,'papers',1,1792450800000000,28,18446744073709551615,9223372036854775807,'theo',-9223372036854775808);
INSERT INTO `grant` VALUES ('c@ilvane.example',3,'start',1,1788303600000000,29,18446744073709551615,9223372036854775807,'uma',-9223372036854775808);
INSERT INTO `grant` VALUES ('c@ilvane.example',0,'talk',1,1788303600000000,30,18446744073709551615,9223372036854775807,'uma',-9223372036854775808);
CREATE TABLE `guest` (
  `address` varchar(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `from_seq` bigint(20) unsigned NOT NULL,
  `until_seq` bigint(20) unsigned NOT NULL DEFAULT 18446744073709551615,
  `name` text NOT NULL,
  `sponsor` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `purpose` text NOT NULL,
  `state` tinyint(3) unsigned NOT NULL,
  `cause` text NOT NULL,
  `state_since` bigint(20) NOT NULL,
  `origins` tinyint(3) unsigned NOT NULL,
  `since` bigint(20) NOT NULL,
  `accepted` bigint(20) NOT NULL,
  `renewed` bigint(20) NOT NULL,
  `ends` bigint(20) NOT NULL,
  `terms` bigint(20) NOT NULL,
  `last_seen` bigint(20) NOT NULL,
  `language` text NOT NULL,
  `location` text NOT NULL,
  `licence` tinyint(3) unsigned NOT NULL,
  `home_closed` bigint(20) NOT NULL DEFAULT 0,
  PRIMARY KEY (`address`,`from_seq`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `guest` VALUES ('a@ilvane.example',20,18446744073709551615,'Ada Brook','uma','restoring',0,'',-9223372036854775808,3,1790809200000000,1790895600000000,-9223372036854775808,9223372036854775807,9223372036854775807,-9223372036854775808,'','',1,0);
INSERT INTO `guest` VALUES ('b@ilvane.example',21,18446744073709551615,'','theo','',1,'',-9223372036854775808,4,1792450800000000,9223372036854775807,-9223372036854775808,9223372036854775807,9223372036854775807,-9223372036854775808,'','',0,0);
INSERT INTO `guest` VALUES ('c@ilvane.example',22,18446744073709551615,'','uma','',2,'',-9223372036854775808,8,1788217200000000,1788303600000000,-9223372036854775808,9223372036854775807,9223372036854775807,-9223372036854775808,'','',2,0);
CREATE TABLE `head` (
  `one` tinyint(3) unsigned NOT NULL CHECK (`one` = 1),
  `seq` bigint(20) unsigned NOT NULL,
  `revision` bigint(20) unsigned NOT NULL,
  `seal` binary(32) NOT NULL,
  PRIMARY KEY (`one`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `head` VALUES (1,31,1,x'8a2779e38bec7123075258f7bcfc3dbdad40e54aa1b037a099463b7b744f5318');
CREATE TABLE `item` (
  `id` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `from_seq` bigint(20) unsigned NOT NULL,
  `until_seq` bigint(20) unsigned NOT NULL DEFAULT 18446744073709551615,
  `space` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `place` int(10) unsigned NOT NULL,
  `kind` tinyint(3) unsigned NOT NULL,
  `name` text NOT NULL,
  `private` tinyint(1) NOT NULL,
  `rules` text DEFAULT NULL,
  PRIMARY KEY (`id`,`from_seq`),
  KEY `by_space` (`space`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `item` VALUES ('board',19,18446744073709551615,'figures',1,6,'Board',0,NULL);
INSERT INTO `item` VALUES ('list',15,18446744073709551615,'dossier',2,2,'List',1,NULL);
INSERT INTO `item` VALUES ('papers',14,18446744073709551615,'dossier',1,1,'Papers',0,NULL);
INSERT INTO `item` VALUES ('start',16,18446744073709551615,'dossier',3,3,'Start',0,NULL);
INSERT INTO `item` VALUES ('talk',13,18446744073709551615,'dossier',0,0,'Talk',0,NULL);
INSERT INTO `item` VALUES ('todo',17,18446744073709551615,'dossier',4,4,'To do',0,NULL);
INSERT INTO `item` VALUES ('visits',18,18446744073709551615,'figures',0,5,'Visits',0,NULL);
CREATE TABLE `journal` (
  `seq` bigint(20) unsigned NOT NULL,
  `part_of` bigint(20) unsigned NOT NULL,
  `at` datetime(6) NOT NULL,
  `who` varchar(190) NOT NULL,
  `kind` varchar(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `id` varchar(600) NOT NULL,
  `was` longtext DEFAULT NULL,
  `now` longtext DEFAULT NULL,
  `why` text NOT NULL,
  `revision` bigint(20) unsigned NOT NULL,
  `seal` binary(32) NOT NULL,
  `salt` binary(16) DEFAULT NULL,
  `digest` binary(32) DEFAULT NULL,
  PRIMARY KEY (`seq`),
  KEY `by_thing` (`kind`,`id`(190),`seq`),
  KEY `by_at` (`at`,`seq`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `journal` VALUES (1,1,'2026-11-02 09:00:01','harbour','organisation','ours',NULL,'{"name":"Lowmark Museum","domains":["lowmark.example"],"time_zone":"Europe/Lisbon"}','the beginning',1,x'0dccbfd35635c7e5450b43eee9d87aaa3b12ff2e474d34f7abb63fe51d78ea48',x'2b358bd761f141342a86df3e78d3d56b',NULL);
INSERT INTO `journal` VALUES (2,1,'2026-11-02 09:00:01','harbour','rule','directory.guests',NULL,'{"limit":"on","default":"on"}','the beginning',1,x'6fe406c89609cbd67dc746794bf10eb1d910c99194a99e09d68baac656e1cce2',x'2b0c28dc065a99d8cded5ab38a59a13d',NULL);
INSERT INTO `journal` VALUES (3,1,'2026-11-02 09:00:01','harbour','rule','spaces.guests',NULL,'{"limit":"on","default":"on"}','the beginning',1,x'1f79441001177c1e8395cbe23cd28c7b7a8c5eba23e6fa2159520af4e658106d',x'cd4dbda68e4da96a51c926425bcbbf85',NULL);
INSERT INTO `journal` VALUES (4,1,'2026-11-02 09:00:01','harbour','partner','ilvane',NULL,'{"id":"ilvane","name":"Ilvane Conservatory","domains":["ilvane.example"],"standing":"active","opened":{"directory.in":"yes","spaces.in":"yes","files.in":"yes"}}','the beginning',1,x'01b5937b124055601ab273043486c64361d2b041833f295ddfcb25ceb1aedae2',x'2630e2e30620b02faf2a0ee0e1d94e73',NULL);
INSERT INTO `journal` VALUES (5,1,'2026-11-02 09:00:01','harbour','draft','d1',NULL,'{"id":"d1","name":"set directory.guests and 3 more","made_by":"harbour","made":"2026-11-02T09:00:04Z","base":0,"edits":[{"kind":"organisation","id":"ours","now":{"name":"Lowmark Museum","domains":["lowmark.example"],"time_zone":"Europe/Lisbon"},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"},{"kind":"partner","id":"ilvane","now":{"id":"ilvane","name":"Ilvane Conservatory","domains":["ilvane.example"],"standing":"active","opened":{"directory.in":"yes","spaces.in":"yes","files.in":"yes"}},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"},{"kind":"rule","id":"directory.guests","now":{"limit":"on","default":"on"},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"},{"kind":"rule","id":"spaces.guests","now":{"limit":"on","default":"on"},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"}],"state":"published","quick":true,"weighed":{"by":"harbour","at":"2026-11-02T09:00:05Z","why":"the beginning","digest":"91f6809eae17252096b63089f40993e9","revision":0},"published":1}','the beginning',1,x'ca77d7e88148f4571b9157dc142d0c3371e1080d487186c4e751ccb2f3925033',x'9d2c560aa39e1e35141533f66eb26b78',NULL);
INSERT INTO `journal` VALUES (6,1,'2026-11-02 09:00:01','harbour','group','curators',NULL,'{"id":"curators","name":"Curators"}','the beginning',1,x'8cc86603b4c961f8df0121ba394481730f3e7e9d5e4834cac9c414e2512ebee1',x'cabc8e5c6aae12b8a8425ed5e3ec2bd6',NULL);
INSERT INTO `journal` VALUES (7,1,'2026-11-02 09:00:01','harbour','person','uma',NULL,'{"id":"uma","name":"Uma Ashdock","address":"uma@lowmark.example","groups":["curators"],"roles":["administrator"]}','the beginning',1,x'7e80f8c34f6d360aef10262b47d30ee0f3a752479ad6da136f678e01707028b6',x'b0b64dffecbb784f983ff8200e9e567b',NULL);
INSERT INTO `journal` VALUES (8,1,'2026-11-02 09:00:01','harbour','person','theo',NULL,'{"id":"theo","name":"Theo Wrayburn","address":"theo@lowmark.example"}','the beginning',1,x'2b11310fdf832ff28353ea16a09d60c25c7aeab8f3c321a3fe2b186e9ef94477',x'62a0fd3a00dce16a423f66ca400a3087',NULL);
INSERT INTO `journal` VALUES (9,1,'2026-11-02 09:00:01','harbour','space','dossier',NULL,'{"id":"dossier","name":"Loan dossier","kind":"team","owners":["uma"],"members":["theo"]}','the beginning',1,x'e3f1587554c491bdff24d4c718a140ef35ff91d5042554c01ba3ab0181d6de73',x'aaee5c84431f8ef44a9e0f7f3f4136d0',NULL);
INSERT INTO `journal` VALUES (10,1,'2026-11-02 09:00:01','harbour','space','figures',NULL,'{"id":"figures","name":"Figures","kind":"report_area","owners":["theo"]}','the beginning',1,x'04c386a66739b618491bed3a13cc8d1e45e49934372787ade8386166122e7384',x'2c3ecd7b993dbb5e007b063c47f43479',NULL);
INSERT INTO `journal` VALUES (11,1,'2026-11-02 09:00:01','harbour','meeting','handover',NULL,'{"id":"handover","name":"Handover","host":"uma"}','the beginning',1,x'22547b1229f2e37d7bfc43263280463ce4d56eb9c4010157f49c31329b497c4c',x'9bc89e0dcadbbc799ecb58536a0595b4',NULL);
INSERT INTO `journal` VALUES (12,1,'2026-11-02 09:00:01','harbour','link','kit',NULL,'{"id":"kit","item":"file:list","for":"bearer","right":"view","until":"2027-01-31","by":"theo"}','the beginning',1,x'f5294e55a79b7535a6fa6e45884b6cb76e9253b84e1e049a635b452e06dd38a4',x'b0283273d515df31ea272529c5520ede',NULL);
INSERT INTO `journal` VALUES (13,1,'2026-11-02 09:00:01','harbour','item','talk',NULL,'{"id":"talk","kind":"channel","name":"Talk"}','the beginning',1,x'fd6d1cd12b3a6672d0aabe9e490ee4318525d6af93bed896476c056a793afc30',x'0f0cc8fbb3c20070433a840154e539f0',NULL);
INSERT INTO `journal` VALUES (14,1,'2026-11-02 09:00:01','harbour','item','papers',NULL,'{"id":"papers","kind":"folder","name":"Papers"}','the beginning',1,x'f858b95984206ae14c79205fb6526c6aa98d16c498be2865136496851fcf4bbf',x'b689902e26ee7fc1114a031bf86e28d0',NULL);
INSERT INTO `journal` VALUES (15,1,'2026-11-02 09:00:01','harbour','item','list',NULL,'{"id":"list","kind":"file","name":"List","private":"yes"}','the beginning',1,x'979cd3869c97f35d371cd2a65df135db777608d488ccab256cd5edd93b6a9395',x'd3fb7e1f0ea096ed91a2ca6454d9da1e',NULL);
INSERT INTO `journal` VALUES (16,1,'2026-11-02 09:00:01','harbour','item','start',NULL,'{"id":"start","kind":"page","name":"Start"}','the beginning',1,x'7bbbb449183f3f753950693164edeb3efbe1fe149b11f4a25c89f901bdc5d679',x'a76c9a292b8fe9343ba962719973483a',NULL);
INSERT INTO `journal` VALUES (17,1,'2026-11-02 09:00:01','harbour','item','todo',NULL,'{"id":"todo","kind":"tasklist","name":"To do"}','the beginning',1,x'5f4b0e48225b090458b4b1014c2e831bedc9bbb34e25d367805847bfda972a09',x'dc9c256045f47712084f73aef0e23480',NULL);
INSERT INTO `journal` VALUES (18,1,'2026-11-02 09:00:01','harbour','item','visits',NULL,'{"id":"visits","kind":"report","name":"Visits"}','the beginning',1,x'6e6c778b24cd9e55ec8e2b86d587065140ec2bb6b5a3b95bf2561a7377c362d4',x'447f66ec12ccda4ed3f89d189ace7851',NULL);
INSERT INTO `journal` VALUES (19,1,'2026-11-02 09:00:01','harbour','item','board',NULL,'{"id":"board","kind":"dashboard","name":"Board"}','the beginning',1,x'4fdcca9eaf0a6f5125508d1532e4de0b3f514fc580fe5bcfffe819cea22a5873',x'136dff53b3578fdf169365203f53321e',NULL);
INSERT INTO `journal` VALUES (20,1,'2026-11-02 09:00:01','harbour','guest','a@ilvane.example',NULL,'{"address":"a@ilvane.example","name":"Ada Brook","sponsor":"uma","purpose":"restoring","state":"active","origins":["invited","shared"],"since":"2026-09-30T23:00:00Z","accepted":"2026-10-01T23:00:00Z","licence":"ours"}','the beginning',1,x'4650b1daef6b9d7c0cdf1953c53f06fa0d487ee81696d0555908e44c5d4c771a',x'5c37c0c848f529393892d254106c023e',NULL);
INSERT INTO `journal` VALUES (21,1,'2026-11-02 09:00:01','harbour','guest','b@ilvane.example',NULL,'{"address":"b@ilvane.example","sponsor":"theo","state":"invited","origins":["requested"],"since":"2026-10-19T23:00:00Z"}','the beginning',1,x'b45f36ef7b8cbb86a49925194a80e96ac9f2f54756021225d14089c1f36d0348',x'949d23f14f4b00f23d2caae6f6748040',NULL);
INSERT INTO `journal` VALUES (22,1,'2026-11-02 09:00:01','harbour','guest','c@ilvane.example',NULL,'{"address":"c@ilvane.example","sponsor":"uma","state":"suspended","origins":["fed"],"since":"2026-08-31T23:00:00Z","accepted":"2026-09-01T23:00:00Z","licence":"theirs"}','the beginning',1,x'df560eb56d209322c58fde5cbb968581388b8352bd11ff9491d048eb7c263861',x'e3852e08c5b1c103247412df3366325a',NULL);
INSERT INTO `journal` VALUES (23,1,'2026-11-02 09:00:01','harbour','grant','a@ilvane.example space:dossier contribute 2026-10-01T23:00:00Z',NULL,'{"party":"a@ilvane.example","resource":"space:dossier","role":"contribute","from":"2026-10-01T23:00:00Z","sponsor":"uma"}','the beginning',1,x'27d5f8cf7c0d3b54c25d2eede3164ff8dba7cad2bc11f6737bafea769c4eca65',x'8b6169cd6773948b2f06434158bec202',NULL);
INSERT INTO `journal` VALUES (24,1,'2026-11-02 09:00:01','harbour','grant','a@ilvane.example report:visits view 2026-10-01T23:00:00Z',NULL,'{"party":"a@ilvane.example","resource":"report:visits","role":"view","from":"2026-10-01T23:00:00Z","sponsor":"theo"}','the beginning',1,x'64bea031244f4aeef70a837fece8a8d39d2825713fbc61de0f1f8bc43ef397c3',x'e19c605aa083ba021d78b157fa99706f',NULL);
INSERT INTO `journal` VALUES (25,1,'2026-11-02 09:00:01','harbour','grant','a@ilvane.example dashboard:board manage 2026-10-01T23:00:00Z',NULL,'{"party":"a@ilvane.example","resource":"dashboard:board","role":"manage","from":"2026-10-01T23:00:00Z","sponsor":"theo"}','the beginning',1,x'3b869a193854f4ff2937a0ac4fac7f3c4c0b20ed70af1986a4ce9844202d38bd',x'cd0c9f1513fa3b2e8747305f3d00114a',NULL);
INSERT INTO `journal` VALUES (26,1,'2026-11-02 09:00:01','harbour','grant','a@ilvane.example tasklist:todo contribute 2026-10-01T23:00:00Z',NULL,'{"party":"a@ilvane.example","resource":"tasklist:todo","role":"contribute","from":"2026-10-01T23:00:00Z","sponsor":"uma"}','the beginning',1,x'da18e9122aa42cd598edb21a8e48ebd9ce6f6afd501097e485714197680c9066',x'da944a4003116f88ef95ad59b4a5c216',NULL);
INSERT INTO `journal` VALUES (27,1,'2026-11-02 09:00:01','harbour','grant','b@ilvane.example file:list view 2026-10-19T23:00:00Z',NULL,'{"party":"b@ilvane.example","resource":"file:list","role":"view","from":"2026-10-19T23:00:00Z","sponsor":"theo"}','the beginning',1,x'95b2b4dfc699dd63b4d7a813a28ef8a877480fe1e8b64a0750854f6b390c554c',x'0c8be735d709031fd86f1bdee637c75d',NULL);
INSERT INTO `journal` VALUES (28,1,'2026-11-02 09:00:01','harbour','grant','b@ilvane.example folder:papers view 2026-10-19T23:00:00Z',NULL,'{"party":"b@ilvane.example","resource":"folder:papers","role":"view","from":"2026-10-19T23:00:00Z","sponsor":"theo"}','the beginning',1,x'8de51817cb679fdd1861f1b04aa9946de4cb1dc58f69dcadea556f2390314108',x'd042f575dfe1292e32fbb7e329f96282',NULL);
INSERT INTO `journal` VALUES (29,1,'2026-11-02 09:00:01','harbour','grant','c@ilvane.example page:start view 2026-09-01T23:00:00Z',NULL,'{"party":"c@ilvane.example","resource":"page:start","role":"view","from":"2026-09-01T23:00:00Z","sponsor":"uma"}','the beginning',1,x'acf0a39a6d22a97d4e509d0f4b32d016c69af4db29ed150efb105881b741630a',x'5efd36e30ec5ae8ad101145a4ffec80d',NULL);
INSERT INTO `journal` VALUES (30,1,'2026-11-02 09:00:01','harbour','grant','c@ilvane.example channel:talk view 2026-09-01T23:00:00Z',NULL,'{"party":"c@ilvane.example","resource":"channel:talk","role":"view","from":"2026-09-01T23:00:00Z","sponsor":"uma"}','the beginning',1,x'dd6e02f5ef62385bb1bb5a642ba7807df81b265e6857846b57a03c5a8e389171',x'f79caa0e63dd08a97af195cccbb27e86',NULL);
INSERT INTO `journal` VALUES (31,31,'2026-11-02 09:00:06','harbour','account','harbour',NULL,'{"name":"harbour","role":"administrator","disabled":false}','sign-in',1,x'8a2779e38bec7123075258f7bcfc3dbdad40e54aa1b037a099463b7b744f5318',x'8f74057f2d9010f3fefde827bdb5a1e5',NULL);
CREATE TABLE `outbox` (
  `id` bigint(20) unsigned NOT NULL AUTO_INCREMENT,
  `message_id` varchar(200) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `once` varchar(400) CHARACTER SET ascii COLLATE ascii_nopad_bin DEFAULT NULL,
  `recipient` varchar(254) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `kind` varchar(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `doc` longtext NOT NULL,
  `made` bigint(20) NOT NULL,
  `due` bigint(20) NOT NULL,
  `tries` int(10) unsigned NOT NULL DEFAULT 0,
  `state` varchar(12) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL DEFAULT 'waiting',
  `sent` bigint(20) NOT NULL DEFAULT 0,
  `error` text NOT NULL,
  PRIMARY KEY (`id`),
  UNIQUE KEY `message_id` (`message_id`),
  UNIQUE KEY `once` (`once`),
  KEY `by_due` (`state`,`due`),
  KEY `by_kind` (`state`,`kind`,`due`),
  KEY `by_recipient` (`recipient`,`id`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
CREATE TABLE `policy` (
  `kind` varchar(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `id` varchar(260) NOT NULL,
  `from_revision` bigint(20) unsigned NOT NULL,
  `until_revision` bigint(20) unsigned NOT NULL DEFAULT 18446744073709551615,
  `doc` longtext NOT NULL,
  PRIMARY KEY (`kind`,`id`,`from_revision`),
  KEY `by_revision` (`until_revision`,`from_revision`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `policy` VALUES ('organisation','ours',1,18446744073709551615,'{"name":"Lowmark Museum","domains":["lowmark.example"],"time_zone":"Europe/Lisbon"}');
INSERT INTO `policy` VALUES ('partner','ilvane',1,18446744073709551615,'{"id":"ilvane","name":"Ilvane Conservatory","domains":["ilvane.example"],"standing":"active","opened":{"directory.in":"yes","spaces.in":"yes","files.in":"yes"}}');
INSERT INTO `policy` VALUES ('rule','directory.guests',1,18446744073709551615,'{"limit":"on","default":"on"}');
INSERT INTO `policy` VALUES ('rule','spaces.guests',1,18446744073709551615,'{"limit":"on","default":"on"}');
CREATE TABLE `record` (
  `kind` varchar(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `id` varchar(400) NOT NULL,
  `from_seq` bigint(20) unsigned NOT NULL,
  `until_seq` bigint(20) unsigned NOT NULL DEFAULT 18446744073709551615,
  `doc` longtext NOT NULL,
  PRIMARY KEY (`kind`,`id`,`from_seq`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `record` VALUES ('draft','d1',5,18446744073709551615,'{"id":"d1","name":"set directory.guests and 3 more","made_by":"harbour","made":"2026-11-02T09:00:04Z","base":0,"edits":[{"kind":"organisation","id":"ours","now":{"name":"Lowmark Museum","domains":["lowmark.example"],"time_zone":"Europe/Lisbon"},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"},{"kind":"partner","id":"ilvane","now":{"id":"ilvane","name":"Ilvane Conservatory","domains":["ilvane.example"],"standing":"active","opened":{"directory.in":"yes","spaces.in":"yes","files.in":"yes"}},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"},{"kind":"rule","id":"directory.guests","now":{"limit":"on","default":"on"},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"},{"kind":"rule","id":"spaces.guests","now":{"limit":"on","default":"on"},"by":"harbour","at":"2026-11-02T09:00:03Z","why":"the beginning"}],"state":"published","quick":true,"weighed":{"by":"harbour","at":"2026-11-02T09:00:05Z","why":"the beginning","digest":"91f6809eae17252096b63089f40993e9","revision":0},"published":1}');
INSERT INTO `record` VALUES ('group','curators',6,18446744073709551615,'{"id":"curators","name":"Curators"}');
INSERT INTO `record` VALUES ('link','kit',12,18446744073709551615,'{"id":"kit","item":"file:list","for":"bearer","right":"view","until":"2027-01-31","by":"theo"}');
INSERT INTO `record` VALUES ('meeting','handover',11,18446744073709551615,'{"id":"handover","name":"Handover","host":"uma"}');
INSERT INTO `record` VALUES ('person','theo',8,18446744073709551615,'{"id":"theo","name":"Theo Wrayburn","address":"theo@lowmark.example"}');
INSERT INTO `record` VALUES ('person','uma',7,18446744073709551615,'{"id":"uma","name":"Uma Ashdock","address":"uma@lowmark.example","groups":["curators"],"roles":["administrator"]}');
INSERT INTO `record` VALUES ('space','dossier',9,18446744073709551615,'{"id":"dossier","name":"Loan dossier","kind":"team","owners":["uma"],"members":["theo"]}');
INSERT INTO `record` VALUES ('space','figures',10,18446744073709551615,'{"id":"figures","name":"Figures","kind":"report_area","owners":["theo"]}');
CREATE TABLE `revision` (
  `number` bigint(20) unsigned NOT NULL,
  `at` datetime(6) NOT NULL,
  `who` varchar(190) NOT NULL,
  `why` text NOT NULL,
  PRIMARY KEY (`number`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
INSERT INTO `revision` VALUES (1,'2026-11-02 09:00:01','harbour','the beginning');
CREATE TABLE `sessions` (
  `token` varchar(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `data` blob NOT NULL,
  `expiry` timestamp(6) NOT NULL,
  PRIMARY KEY (`token`),
  KEY `by_expiry` (`expiry`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
CREATE TABLE `signing_key` (
  `id` varchar(64) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `state` varchar(12) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `since` datetime(6) NOT NULL,
  `private` text NOT NULL,
  PRIMARY KEY (`id`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
CREATE TABLE `token` (
  `id` char(16) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `secret` binary(32) NOT NULL,
  `account` varchar(100) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `name` varchar(100) NOT NULL,
  `scope` varchar(24) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL,
  `made` datetime(6) NOT NULL,
  `expires` datetime(6) NOT NULL,
  PRIMARY KEY (`id`),
  UNIQUE KEY `secret` (`secret`)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_nopad_bin;
