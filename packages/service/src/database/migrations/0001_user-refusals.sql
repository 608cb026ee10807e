CREATE TABLE `user_refusal_counts` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`day` date NOT NULL,
	`code` enum('proof-missing','proof-key-missing','proof-malformed','proof-expired','proof-too-long','proof-other-key','proof-other-user','proof-used') NOT NULL,
	`count` int unsigned NOT NULL,
	CONSTRAINT `user_refusal_counts_app_no_environment_day_code_pk` PRIMARY KEY(`app_no`,`environment`,`day`,`code`)
);
