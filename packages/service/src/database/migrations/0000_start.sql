CREATE TABLE `accounts` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`email` varchar(200) character set utf8mb4 collate utf8mb4_general_ci NOT NULL,
	`name` varchar(80) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`role` enum('viewer','sender','owner') NOT NULL,
	`password_hash` varchar(200) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`created_at` datetime(3) NOT NULL,
	CONSTRAINT `accounts_no` PRIMARY KEY(`no`),
	CONSTRAINT `email` UNIQUE(`email`)
);
--> statement-breakpoint
CREATE TABLE `known_browsers` (
	`hash` binary(32) NOT NULL,
	`account_no` bigint unsigned NOT NULL,
	`expires_at` datetime(3) NOT NULL,
	CONSTRAINT `known_browsers_hash` PRIMARY KEY(`hash`)
);
--> statement-breakpoint
CREATE TABLE `sessions` (
	`hash` binary(32) NOT NULL,
	`account_no` bigint unsigned NOT NULL,
	`expires_at` datetime(3) NOT NULL,
	CONSTRAINT `sessions_hash` PRIMARY KEY(`hash`)
);
--> statement-breakpoint
CREATE TABLE `sign_in_links` (
	`hash` binary(32) NOT NULL,
	`account_no` bigint unsigned NOT NULL,
	`expires_at` datetime(3) NOT NULL,
	CONSTRAINT `sign_in_links_hash` PRIMARY KEY(`hash`)
);
--> statement-breakpoint
CREATE TABLE `app_settings` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`settings` json NOT NULL,
	`proof_key` varbinary(1000),
	CONSTRAINT `app_settings_app_no_environment_pk` PRIMARY KEY(`app_no`,`environment`)
);
--> statement-breakpoint
CREATE TABLE `apps` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`slug` varchar(40) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`name` varchar(80) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`identifiers` json NOT NULL,
	`created_at` datetime(3) NOT NULL,
	CONSTRAINT `apps_no` PRIMARY KEY(`no`),
	CONSTRAINT `slug` UNIQUE(`slug`)
);
--> statement-breakpoint
CREATE TABLE `credentials` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`platform` enum('ios','android','web') NOT NULL,
	`kind` varchar(20) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`fingerprint` varchar(64) character set utf8mb4 collate utf8mb4_bin,
	`sealed` varbinary(16000) NOT NULL,
	`created_at` datetime(3) NOT NULL,
	`id` binary(16) NOT NULL,
	`slot` enum('in-use','waiting'),
	`public_key_hash` varchar(64) character set ascii collate ascii_bin,
	`subject` varchar(1000) character set utf8mb4 collate utf8mb4_bin,
	`serial` varchar(100) character set ascii collate ascii_bin,
	`key_id` varchar(100) character set utf8mb4 collate utf8mb4_bin,
	`issuer` varchar(200) character set utf8mb4 collate utf8mb4_bin,
	`not_before` datetime(3),
	`not_after` datetime(3),
	`added_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL DEFAULT 'operator',
	`retired_at` datetime(3),
	`retired_by` varchar(220) character set utf8mb4 collate utf8mb4_bin,
	`used_at` datetime(3),
	`rejected_at` datetime(3),
	`checked_at` datetime(3),
	`verdict` json,
	`round_trip_ms` int unsigned,
	`announced_days` tinyint unsigned,
	`facts` json,
	`origins` json,
	CONSTRAINT `credentials_no` PRIMARY KEY(`no`),
	CONSTRAINT `by_id` UNIQUE(`id`),
	CONSTRAINT `one_in_a_slot` UNIQUE(`app_no`,`environment`,`platform`,`slot`)
);
--> statement-breakpoint
CREATE TABLE `api_keys` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`kind` enum('backend','app') NOT NULL,
	`name` varchar(80) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`hash` binary(32) NOT NULL,
	`created_at` datetime(3) NOT NULL,
	`revoked_at` datetime(3),
	`id` binary(16) NOT NULL,
	`role` enum('viewer','sender','owner'),
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL DEFAULT 'operator',
	`used_at` datetime(3),
	`revoked_by` varchar(220) character set utf8mb4 collate utf8mb4_bin,
	CONSTRAINT `api_keys_no` PRIMARY KEY(`no`),
	CONSTRAINT `by_id` UNIQUE(`id`),
	CONSTRAINT `hash` UNIQUE(`hash`)
);
--> statement-breakpoint
CREATE TABLE `milestones` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`platform` enum('ios','android','web') NOT NULL,
	`rehearsal` boolean NOT NULL,
	`what` enum('accepted','received') NOT NULL,
	`at` datetime(3) NOT NULL,
	CONSTRAINT `milestones_app_no_environment_platform_rehearsal_what_pk` PRIMARY KEY(`app_no`,`environment`,`platform`,`rehearsal`,`what`)
);
--> statement-breakpoint
CREATE TABLE `segments` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`version` int unsigned NOT NULL,
	`rule` varchar(4000) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`note` varchar(200) character set utf8mb4 collate utf8mb4_bin,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`made_at` datetime(3) NOT NULL,
	`deleted_at` datetime(3),
	CONSTRAINT `segments_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_version` UNIQUE(`app_no`,`environment`,`name`,`version`)
);
--> statement-breakpoint
CREATE TABLE `templates` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`version` int unsigned NOT NULL,
	`content` json NOT NULL,
	`declares` json NOT NULL,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`made_at` datetime(3) NOT NULL,
	`deleted_at` datetime(3),
	CONSTRAINT `templates_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_version` UNIQUE(`app_no`,`environment`,`name`,`version`)
);
--> statement-breakpoint
CREATE TABLE `used_proofs` (
	`hash` binary(32) NOT NULL,
	`holder` binary(32) NOT NULL,
	`until_at` datetime(3) NOT NULL,
	CONSTRAINT `used_proofs_hash` PRIMARY KEY(`hash`)
);
--> statement-breakpoint
CREATE TABLE `day_counts` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`day` date NOT NULL,
	`slot` tinyint unsigned NOT NULL,
	`platform` tinyint unsigned NOT NULL,
	`state` tinyint unsigned NOT NULL,
	`reason` tinyint unsigned NOT NULL,
	`duration` tinyint unsigned NOT NULL,
	`count` bigint unsigned NOT NULL,
	`channel_no` int unsigned NOT NULL DEFAULT 0,
	CONSTRAINT `day_counts_pk` PRIMARY KEY(`app_no`,`environment`,`day`,`slot`,`channel_no`,`platform`,`state`,`reason`,`duration`)
);
--> statement-breakpoint
CREATE TABLE `deliveries` (
	`notification_no` bigint unsigned NOT NULL,
	`device_no` bigint unsigned NOT NULL,
	`platform` tinyint unsigned NOT NULL,
	`state` tinyint unsigned NOT NULL,
	`reason` tinyint unsigned NOT NULL DEFAULT 0,
	`attempts` smallint unsigned NOT NULL DEFAULT 0,
	`gateway_reference` varchar(64) character set ascii collate ascii_bin,
	`answer` binary(6),
	`action` varchar(64) character set utf8mb4 collate utf8mb4_bin,
	`accepted_at` datetime(3),
	`received_at` datetime(3),
	`shown_at` datetime(3),
	`dismissed_at` datetime(3),
	`opened_at` datetime(3),
	`ended_at` datetime(3),
	`app_state` tinyint unsigned,
	`became` tinyint unsigned,
	`detail` varchar(64) character set ascii collate ascii_bin,
	CONSTRAINT `deliveries_notification_no_device_no_pk` PRIMARY KEY(`notification_no`,`device_no`)
);
--> statement-breakpoint
CREATE TABLE `early_receipts` (
	`notification_no` bigint unsigned NOT NULL,
	`device_no` bigint unsigned NOT NULL,
	`state` tinyint unsigned NOT NULL,
	`action` varchar(64) character set utf8mb4 collate utf8mb4_bin,
	`at` datetime(3) NOT NULL,
	`app_state` tinyint unsigned,
	`became` tinyint unsigned,
	CONSTRAINT `early_receipts_notification_no_device_no_state_pk` PRIMARY KEY(`notification_no`,`device_no`,`state`)
);
--> statement-breakpoint
CREATE TABLE `gateway_answers` (
	`notification_no` bigint unsigned NOT NULL,
	`hash` binary(6) NOT NULL,
	`gateway` varchar(250) character set ascii collate ascii_bin NOT NULL,
	`credential` varchar(60) character set ascii collate ascii_bin,
	`status` smallint unsigned NOT NULL,
	`says` varchar(250) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	CONSTRAINT `gateway_answers_notification_no_hash_pk` PRIMARY KEY(`notification_no`,`hash`)
);
--> statement-breakpoint
CREATE TABLE `notification_counts` (
	`notification_no` bigint unsigned NOT NULL,
	`platform` tinyint unsigned NOT NULL,
	`state` tinyint unsigned NOT NULL,
	`reason` tinyint unsigned NOT NULL,
	`count` int NOT NULL,
	CONSTRAINT `notification_counts_notification_no_platform_state_reason_pk` PRIMARY KEY(`notification_no`,`platform`,`state`,`reason`)
);
--> statement-breakpoint
CREATE TABLE `device_events` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`device_no` bigint unsigned NOT NULL,
	`at` datetime(3) NOT NULL,
	`what` tinyint unsigned NOT NULL,
	`detail` varchar(200) character set utf8mb4 collate utf8mb4_bin,
	CONSTRAINT `device_events_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `device_tokens` (
	`device_no` bigint unsigned NOT NULL,
	`token_hash` binary(32) NOT NULL,
	`until_at` datetime(3) NOT NULL,
	CONSTRAINT `device_tokens_device_no_token_hash_pk` PRIMARY KEY(`device_no`,`token_hash`)
);
--> statement-breakpoint
CREATE TABLE `devices` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`id` binary(16) NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`platform` enum('ios','android','web') NOT NULL,
	`token` varchar(4096) character set ascii collate ascii_bin NOT NULL,
	`token_hash` binary(32),
	`p256dh` varbinary(65),
	`auth` varbinary(16),
	`secret_hash` binary(32) NOT NULL,
	`user_no` bigint unsigned,
	`permission` enum('prompt','granted','denied') NOT NULL,
	`muted` boolean NOT NULL,
	`locale` varchar(35) character set utf8mb4 collate utf8mb4_bin,
	`time_zone` varchar(64) character set utf8mb4 collate utf8mb4_bin,
	`app_version` varchar(64) character set utf8mb4 collate utf8mb4_bin,
	`system_version` varchar(64) character set utf8mb4 collate utf8mb4_bin,
	`model` varchar(64) character set utf8mb4 collate utf8mb4_bin,
	`registered_at` datetime(3) NOT NULL,
	`seen_at` datetime(3) NOT NULL,
	`changed_at` datetime(3) NOT NULL,
	`retired_at` datetime(3),
	`retired_reason` varchar(40) character set utf8mb4 collate utf8mb4_bin,
	`installation` varchar(64) character set ascii collate ascii_bin,
	`allows` tinyint unsigned,
	`receipt_at` datetime(3),
	`user_proved` boolean NOT NULL DEFAULT false,
	`claimed_at` datetime(3),
	CONSTRAINT `devices_no` PRIMARY KEY(`no`),
	CONSTRAINT `id` UNIQUE(`id`),
	CONSTRAINT `one_installation` UNIQUE(`app_no`,`environment`,`installation`),
	CONSTRAINT `one_token` UNIQUE(`app_no`,`environment`,`platform`,`token_hash`),
	CONSTRAINT `secret_hash` UNIQUE(`secret_hash`)
);
--> statement-breakpoint
CREATE TABLE `former_devices` (
	`user_no` bigint unsigned NOT NULL,
	`device_no` bigint unsigned NOT NULL,
	`left_at` datetime(3) NOT NULL,
	CONSTRAINT `former_devices_user_no_device_no_pk` PRIMARY KEY(`user_no`,`device_no`)
);
--> statement-breakpoint
CREATE TABLE `gateway_exchanges` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`platform` enum('ios','android','web') NOT NULL,
	`exchange` mediumtext character set utf8mb4 collate utf8mb4_bin NOT NULL,
	CONSTRAINT `gateway_exchanges_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `gateway_profiles` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`platform` enum('ios','android','web') NOT NULL,
	`version` int unsigned NOT NULL,
	`slot` enum('in-use','waiting'),
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`asks_for` varchar(20) character set ascii collate ascii_bin NOT NULL,
	`outdated_from` date,
	`body` mediumtext character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`made_at` datetime(3) NOT NULL,
	CONSTRAINT `gateway_profiles_no` PRIMARY KEY(`no`),
	CONSTRAINT `by_slot` UNIQUE(`app_no`,`environment`,`platform`,`slot`),
	CONSTRAINT `by_version` UNIQUE(`app_no`,`environment`,`platform`,`version`)
);
--> statement-breakpoint
CREATE TABLE `gateway_recordings` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`platform` enum('ios','android','web') NOT NULL,
	`until` datetime(3) NOT NULL,
	CONSTRAINT `gateway_recordings_app_no_environment_platform_pk` PRIMARY KEY(`app_no`,`environment`,`platform`)
);
--> statement-breakpoint
CREATE TABLE `signed_tokens` (
	`name` binary(32) NOT NULL,
	`made_at` datetime(3) NOT NULL,
	CONSTRAINT `signed_tokens_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `notifications` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`id` binary(16) NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`state` enum('expanding','sending','finished','scheduled') NOT NULL,
	`target` json NOT NULL,
	`content` json NOT NULL,
	`urgency` tinyint unsigned NOT NULL,
	`mode` enum('show','wake') NOT NULL,
	`ttl_seconds` int unsigned NOT NULL,
	`sent_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`idempotency_hash` binary(32),
	`request_hash` binary(32) NOT NULL,
	`expanded` int unsigned NOT NULL DEFAULT 0,
	`expanded_to` bigint unsigned NOT NULL DEFAULT 0,
	`created_at` datetime(3) NOT NULL,
	`expires_at` datetime(3) NOT NULL,
	`finished_at` datetime(3),
	`changed_at` datetime(3) NOT NULL,
	`version` int unsigned NOT NULL DEFAULT 0,
	`filling` json,
	`template` varchar(80) character set ascii collate ascii_bin,
	`name` varchar(64) character set ascii collate ascii_bin,
	`live_name` varchar(64) character set ascii collate ascii_bin,
	`tag` varchar(32) character set ascii collate ascii_bin,
	`pause` tinyint unsigned NOT NULL DEFAULT 0,
	`spread_seconds` int unsigned NOT NULL DEFAULT 0,
	`spread_over` int unsigned NOT NULL DEFAULT 0,
	`withdrawn_at` datetime(3),
	`pruned_at` datetime(3),
	`due_at` datetime(3),
	`grace_seconds` int unsigned,
	`missed_at` datetime(3),
	`reader_local` varchar(19) character set ascii collate ascii_bin,
	`reader_past` enum('skip','now','tomorrow'),
	`schedule` varchar(64) character set ascii collate ascii_bin,
	`channel_no` int unsigned,
	`capped` boolean NOT NULL DEFAULT false,
	CONSTRAINT `notifications_no` PRIMARY KEY(`no`),
	CONSTRAINT `id` UNIQUE(`id`),
	CONSTRAINT `one_answer` UNIQUE(`app_no`,`environment`,`idempotency_hash`),
	CONSTRAINT `one_live_name` UNIQUE(`app_no`,`environment`,`live_name`)
);
--> statement-breakpoint
CREATE TABLE `jobs` (
	`name` varchar(40) character set ascii collate ascii_bin NOT NULL,
	`every_seconds` int unsigned NOT NULL,
	`due_at` datetime(3) NOT NULL,
	`owner` binary(16),
	`until_at` datetime(3) NOT NULL,
	`run_by` varchar(100) character set utf8mb4 collate utf8mb4_bin,
	`started_at` datetime(3),
	`finished_at` datetime(3),
	`duration_ms` int unsigned,
	`failures` int unsigned NOT NULL DEFAULT 0,
	`error` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	CONSTRAINT `jobs_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `processes` (
	`id` binary(16) NOT NULL,
	`started_at` datetime(3) NOT NULL,
	`seen_at` datetime(3) NOT NULL,
	`report` json NOT NULL,
	CONSTRAINT `processes_id` PRIMARY KEY(`id`)
);
--> statement-breakpoint
CREATE TABLE `removals` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`kind` enum('topic','trigger','schedule') NOT NULL,
	`subject_no` bigint unsigned NOT NULL,
	CONSTRAINT `removals_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `request_keys` (
	`name` binary(32) NOT NULL,
	`request` binary(32) NOT NULL,
	`status` smallint unsigned,
	`answer` mediumtext character set utf8mb4 collate utf8mb4_bin,
	`begun_at` datetime(3) NOT NULL,
	CONSTRAINT `request_keys_name` PRIMARY KEY(`name`)
);
--> statement-breakpoint
CREATE TABLE `attributes` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`type` enum('text','number','boolean','instant','place') NOT NULL,
	`devices_may` boolean NOT NULL DEFAULT false,
	`created_at` datetime(3) NOT NULL,
	CONSTRAINT `attributes_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_name` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
CREATE TABLE `occurrences` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`identity` binary(32) NOT NULL,
	`source` varchar(500) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`id` varchar(200) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`type` varchar(200) character set utf8mb4 collate utf8mb4_nopad_bin NOT NULL,
	`user_no` bigint unsigned,
	`at` datetime(3) NOT NULL,
	`taken_at` datetime(3) NOT NULL,
	`data` json,
	`reporter` enum('server','source','device') NOT NULL DEFAULT 'server',
	`proved` boolean NOT NULL DEFAULT false,
	CONSTRAINT `occurrences_no` PRIMARY KEY(`no`),
	CONSTRAINT `once` UNIQUE(`app_no`,`environment`,`identity`)
);
--> statement-breakpoint
CREATE TABLE `topic_devices` (
	`topic_no` int unsigned NOT NULL,
	`device_no` bigint unsigned NOT NULL,
	`joined_at` datetime(3) NOT NULL,
	CONSTRAINT `topic_devices_topic_no_device_no_pk` PRIMARY KEY(`topic_no`,`device_no`)
);
--> statement-breakpoint
CREATE TABLE `topic_users` (
	`topic_no` int unsigned NOT NULL,
	`user_no` bigint unsigned NOT NULL,
	`joined_at` datetime(3) NOT NULL,
	CONSTRAINT `topic_users_topic_no_user_no_pk` PRIMARY KEY(`topic_no`,`user_no`)
);
--> statement-breakpoint
CREATE TABLE `topics` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`title` varchar(80) character set utf8mb4 collate utf8mb4_bin,
	`declared` boolean NOT NULL,
	`created_at` datetime(3) NOT NULL,
	`counted_devices` bigint,
	`counted_users` bigint,
	CONSTRAINT `topics_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_name` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
CREATE TABLE `user_attributes` (
	`user_no` bigint unsigned NOT NULL,
	`attribute_no` int unsigned NOT NULL,
	`text` varchar(500) character set utf8mb4 collate utf8mb4_nopad_bin,
	`number` double,
	`second` double,
	`changed_at` datetime(3) NOT NULL,
	CONSTRAINT `user_attributes_user_no_attribute_no_pk` PRIMARY KEY(`user_no`,`attribute_no`)
);
--> statement-breakpoint
CREATE TABLE `users` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(128) character set utf8mb4 collate utf8mb4_bin,
	`created_at` datetime(3) NOT NULL DEFAULT utc_timestamp(3),
	`changed_at` datetime(3) NOT NULL DEFAULT utc_timestamp(3),
	`named` boolean GENERATED ALWAYS AS ((name is not null)) VIRTUAL,
	CONSTRAINT `users_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_name` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
CREATE TABLE `app_stops` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`reason` varchar(200) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`stopped_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`stopped_at` datetime(3) NOT NULL,
	CONSTRAINT `app_stops_app_no_environment_pk` PRIMARY KEY(`app_no`,`environment`)
);
--> statement-breakpoint
CREATE TABLE `calendar_feeds` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`secret_hash` binary(32) NOT NULL,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`made_at` datetime(3) NOT NULL,
	CONSTRAINT `calendar_feeds_app_no_environment_pk` PRIMARY KEY(`app_no`,`environment`),
	CONSTRAINT `one_secret` UNIQUE(`secret_hash`)
);
--> statement-breakpoint
CREATE TABLE `cap_pages` (
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`cap` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`page` bigint NOT NULL,
	`body` mediumblob NOT NULL,
	`until_at` datetime(3) NOT NULL,
	CONSTRAINT `cap_pages_app_no_environment_cap_page_pk` PRIMARY KEY(`app_no`,`environment`,`cap`,`page`)
);
--> statement-breakpoint
CREATE TABLE `channel_blocks` (
	`channel_no` int unsigned NOT NULL,
	`device_no` bigint unsigned NOT NULL,
	CONSTRAINT `channel_blocks_channel_no_device_no_pk` PRIMARY KEY(`channel_no`,`device_no`)
);
--> statement-breakpoint
CREATE TABLE `channel_mutes` (
	`channel_no` int unsigned NOT NULL,
	`user_no` bigint unsigned NOT NULL,
	`muted_at` datetime(3) NOT NULL,
	CONSTRAINT `channel_mutes_channel_no_user_no_pk` PRIMARY KEY(`channel_no`,`user_no`)
);
--> statement-breakpoint
CREATE TABLE `channels` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`setting` json NOT NULL,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`changed_at` datetime(3) NOT NULL,
	`deleted_at` datetime(3),
	CONSTRAINT `channels_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_channel` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
CREATE TABLE `user_quiet_hours` (
	`user_no` bigint unsigned NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`quiet_hours` json NOT NULL,
	`changed_at` datetime(3) NOT NULL,
	CONSTRAINT `user_quiet_hours_user_no` PRIMARY KEY(`user_no`)
);
--> statement-breakpoint
CREATE TABLE `outbox` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`webhook_no` int unsigned NOT NULL,
	`kind` enum('event','replay') NOT NULL,
	`size` int unsigned NOT NULL,
	`body` mediumblob NOT NULL,
	`failures` smallint unsigned NOT NULL DEFAULT 0,
	`due_at` datetime(3) NOT NULL,
	`created_at` datetime(3) NOT NULL,
	`fence` bigint unsigned NOT NULL DEFAULT 0,
	`leased_until` datetime(3),
	CONSTRAINT `outbox_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `work` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`kind` varchar(20) character set ascii collate ascii_bin NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`subject_no` bigint unsigned NOT NULL,
	`urgency` tinyint unsigned NOT NULL,
	`due_at` datetime(3) NOT NULL,
	`fence` bigint unsigned NOT NULL DEFAULT 0,
	`leased_until` datetime(3),
	`suspended` boolean NOT NULL DEFAULT false,
	`parked` boolean NOT NULL DEFAULT false,
	`failures` smallint unsigned NOT NULL DEFAULT 0,
	`cause` tinyint unsigned NOT NULL DEFAULT 0,
	`size` int unsigned NOT NULL DEFAULT 0,
	`body` mediumblob,
	CONSTRAINT `work_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `schedule_runs` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`schedule_no` int unsigned NOT NULL,
	`due_at` datetime(3) NOT NULL,
	`state` enum('rung','missed','skipped','failed') NOT NULL,
	`says` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`notification_id` binary(16),
	`settled_at` datetime(3) NOT NULL,
	CONSTRAINT `schedule_runs_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_time` UNIQUE(`schedule_no`,`due_at`)
);
--> statement-breakpoint
CREATE TABLE `schedules` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`timing` json NOT NULL,
	`notification` json NOT NULL,
	`grace_seconds` int unsigned NOT NULL,
	`paused` boolean NOT NULL,
	`next_at` datetime(3),
	`next_id` binary(16) NOT NULL,
	`version` int unsigned NOT NULL DEFAULT 1,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`changed_at` datetime(3) NOT NULL,
	`empty_runs` int unsigned NOT NULL DEFAULT 0,
	CONSTRAINT `schedules_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_schedule` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
CREATE TABLE `firings` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`trigger_no` int unsigned NOT NULL,
	`version` int unsigned NOT NULL,
	`key_hash` binary(16) NOT NULL,
	`key_text` varchar(200) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`given` json NOT NULL,
	`state` enum('rung','waiting','not-needed','throttled','nobody','no-case','fault','dropped') NOT NULL,
	`says` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`case_no` tinyint unsigned,
	`ring` json,
	`notification_id` binary(16),
	`fired_at` datetime(3) NOT NULL,
	`due_at` datetime(3),
	CONSTRAINT `firings_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `source_pages` (
	`source_no` int unsigned NOT NULL,
	`page` smallint unsigned NOT NULL,
	`digest` binary(16) NOT NULL,
	`packed` mediumblob NOT NULL,
	CONSTRAINT `source_pages_source_no_page_pk` PRIMARY KEY(`source_no`,`page`)
);
--> statement-breakpoint
CREATE TABLE `sources` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`version` int unsigned NOT NULL DEFAULT 1,
	`kind` enum('table','poll','segment','incoming') NOT NULL,
	`definition` json NOT NULL,
	`sealed` varbinary(16000) NOT NULL,
	`address` binary(32),
	`shape` binary(32) NOT NULL,
	`taken` boolean NOT NULL DEFAULT false,
	`state` mediumblob,
	`columns` json,
	`samples` json,
	`note` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`left_out` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`fault` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`fault_since` datetime(3),
	`faults` int unsigned NOT NULL DEFAULT 0,
	`polled_at` datetime(3),
	`next_poll_at` datetime(3),
	`lease` binary(16),
	`leased_until` datetime(3),
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`changed_at` datetime(3) NOT NULL,
	CONSTRAINT `sources_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_address` UNIQUE(`address`),
	CONSTRAINT `one_source` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
CREATE TABLE `trigger_events` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`event` json NOT NULL,
	`source_no` int unsigned NOT NULL DEFAULT 0,
	`late_seconds` int unsigned NOT NULL DEFAULT 0,
	CONSTRAINT `trigger_events_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `trigger_versions` (
	`trigger_no` int unsigned NOT NULL,
	`version` int unsigned NOT NULL,
	`definition` json NOT NULL,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`made_at` datetime(3) NOT NULL,
	CONSTRAINT `trigger_versions_trigger_no_version_pk` PRIMARY KEY(`trigger_no`,`version`)
);
--> statement-breakpoint
CREATE TABLE `triggers` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`version` int unsigned NOT NULL DEFAULT 1,
	`definition` json NOT NULL,
	`source` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`enabled` boolean NOT NULL,
	`paused_because` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`hour_at` datetime NOT NULL,
	`hour_count` int unsigned NOT NULL DEFAULT 0,
	`busiest` int unsigned NOT NULL DEFAULT 0,
	`unmatched` bigint unsigned NOT NULL DEFAULT 0,
	`hour_unmatched` int unsigned NOT NULL DEFAULT 0,
	`hour_unrung` int unsigned NOT NULL DEFAULT 0,
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`changed_at` datetime(3) NOT NULL,
	CONSTRAINT `triggers_no` PRIMARY KEY(`no`),
	CONSTRAINT `one_trigger` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
CREATE TABLE `webhook_log` (
	`no` bigint unsigned AUTO_INCREMENT NOT NULL,
	`webhook_no` int unsigned NOT NULL,
	`at` datetime(3) NOT NULL,
	`message` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`kind` varchar(40) character set ascii collate ascii_bin,
	`events` int unsigned NOT NULL,
	`attempt` smallint unsigned NOT NULL,
	`outcome` enum('told','again','given-up','unwanted','dropped','tried') NOT NULL,
	`status` smallint unsigned,
	`duration_ms` int unsigned NOT NULL DEFAULT 0,
	`says` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`answer` varchar(2000) character set utf8mb4 collate utf8mb4_bin,
	`again` boolean NOT NULL DEFAULT false,
	`body` mediumblob,
	CONSTRAINT `webhook_log_no` PRIMARY KEY(`no`)
);
--> statement-breakpoint
CREATE TABLE `webhooks` (
	`no` int unsigned AUTO_INCREMENT NOT NULL,
	`app_no` int unsigned NOT NULL,
	`environment` enum('development','production') NOT NULL,
	`name` varchar(64) character set ascii collate ascii_bin NOT NULL,
	`kinds` json NOT NULL,
	`rule` varchar(4000) character set utf8mb4 collate utf8mb4_bin,
	`batch` smallint unsigned NOT NULL DEFAULT 1,
	`ca` text character set ascii collate ascii_bin,
	`sealed` varbinary(8000) NOT NULL,
	`enabled` boolean NOT NULL DEFAULT true,
	`off_because` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`fault` varchar(300) character set utf8mb4 collate utf8mb4_bin,
	`fault_since` datetime(3),
	`failures` int unsigned NOT NULL DEFAULT 0,
	`backoff_until` datetime(3),
	`delivered_at` datetime(3),
	`dropped` bigint unsigned NOT NULL DEFAULT 0,
	`dropped_at` datetime(3),
	`made_by` varchar(220) character set utf8mb4 collate utf8mb4_bin NOT NULL,
	`changed_at` datetime(3) NOT NULL,
	CONSTRAINT `webhooks_no` PRIMARY KEY(`no`),
	CONSTRAINT `by_name` UNIQUE(`app_no`,`environment`,`name`)
);
--> statement-breakpoint
ALTER TABLE `known_browsers` ADD CONSTRAINT `known_browsers_account_no_accounts_no_fk` FOREIGN KEY (`account_no`) REFERENCES `accounts`(`no`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `sessions` ADD CONSTRAINT `sessions_account_no_accounts_no_fk` FOREIGN KEY (`account_no`) REFERENCES `accounts`(`no`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `sign_in_links` ADD CONSTRAINT `sign_in_links_account_no_accounts_no_fk` FOREIGN KEY (`account_no`) REFERENCES `accounts`(`no`) ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `app_settings` ADD CONSTRAINT `app_settings_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `credentials` ADD CONSTRAINT `credentials_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `api_keys` ADD CONSTRAINT `api_keys_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `segments` ADD CONSTRAINT `segments_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `templates` ADD CONSTRAINT `templates_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `gateway_profiles` ADD CONSTRAINT `gateway_profiles_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `attributes` ADD CONSTRAINT `attributes_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `topics` ADD CONSTRAINT `topics_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `channels` ADD CONSTRAINT `channels_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `schedules` ADD CONSTRAINT `schedules_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `sources` ADD CONSTRAINT `sources_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `triggers` ADD CONSTRAINT `triggers_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
ALTER TABLE `webhooks` ADD CONSTRAINT `webhooks_app_no_apps_no_fk` FOREIGN KEY (`app_no`) REFERENCES `apps`(`no`) ON DELETE no action ON UPDATE no action;--> statement-breakpoint
CREATE INDEX `by_end` ON `known_browsers` (`expires_at`);--> statement-breakpoint
CREATE INDEX `by_account` ON `known_browsers` (`account_no`);--> statement-breakpoint
CREATE INDEX `by_end` ON `sessions` (`expires_at`);--> statement-breakpoint
CREATE INDEX `by_account` ON `sessions` (`account_no`);--> statement-breakpoint
CREATE INDEX `by_account` ON `sign_in_links` (`account_no`);--> statement-breakpoint
CREATE INDEX `by_app` ON `api_keys` (`app_no`);--> statement-breakpoint
CREATE INDEX `by_device` ON `device_events` (`device_no`);--> statement-breakpoint
CREATE INDEX `by_change` ON `devices` (`app_no`,`environment`,`changed_at`);--> statement-breakpoint
CREATE INDEX `by_platform` ON `devices` (`app_no`,`environment`,`platform`,`no`,`permission`,`muted`,`retired_at`,`user_no`);--> statement-breakpoint
CREATE INDEX `by_retirement` ON `devices` (`retired_at`);--> statement-breakpoint
CREATE INDEX `by_user` ON `devices` (`user_no`,`platform`,`permission`,`muted`,`retired_at`);--> statement-breakpoint
CREATE INDEX `by_age` ON `former_devices` (`left_at`);--> statement-breakpoint
CREATE INDEX `by_device` ON `former_devices` (`device_no`);--> statement-breakpoint
CREATE INDEX `by_change` ON `notifications` (`app_no`,`environment`,`changed_at`);--> statement-breakpoint
CREATE INDEX `by_due` ON `notifications` (`state`,`due_at`);--> statement-breakpoint
CREATE INDEX `by_end` ON `notifications` (`pruned_at`,`finished_at`);--> statement-breakpoint
CREATE INDEX `by_name` ON `notifications` (`app_no`,`environment`,`name`,`no`);--> statement-breakpoint
CREATE INDEX `by_tag` ON `notifications` (`app_no`,`environment`,`tag`,`no`);--> statement-breakpoint
CREATE INDEX `by_age` ON `request_keys` (`begun_at`);--> statement-breakpoint
CREATE INDEX `by_age` ON `occurrences` (`taken_at`);--> statement-breakpoint
CREATE INDEX `by_type` ON `occurrences` (`user_no`,`type`,`at`);--> statement-breakpoint
CREATE INDEX `by_user` ON `occurrences` (`user_no`,`at`);--> statement-breakpoint
CREATE INDEX `by_device` ON `topic_devices` (`device_no`);--> statement-breakpoint
CREATE INDEX `by_user` ON `topic_users` (`user_no`);--> statement-breakpoint
CREATE INDEX `by_number` ON `user_attributes` (`attribute_no`,`number`);--> statement-breakpoint
CREATE INDEX `by_text` ON `user_attributes` (`attribute_no`,`text`(40));--> statement-breakpoint
CREATE INDEX `by_age` ON `users` (`app_no`,`environment`,`named`,`no`);--> statement-breakpoint
CREATE INDEX `by_change` ON `users` (`app_no`,`environment`,`named`,`changed_at`,`no`);--> statement-breakpoint
CREATE INDEX `by_until` ON `cap_pages` (`until_at`);--> statement-breakpoint
CREATE INDEX `by_device` ON `channel_blocks` (`device_no`);--> statement-breakpoint
CREATE INDEX `by_user` ON `channel_mutes` (`user_no`);--> statement-breakpoint
CREATE INDEX `by_app` ON `user_quiet_hours` (`app_no`,`environment`);--> statement-breakpoint
CREATE INDEX `by_due` ON `outbox` (`due_at`);--> statement-breakpoint
CREATE INDEX `by_webhook` ON `outbox` (`webhook_no`,`due_at`,`leased_until`,`size`);--> statement-breakpoint
CREATE INDEX `by_age` ON `outbox` (`created_at`);--> statement-breakpoint
CREATE INDEX `by_turn` ON `work` (`suspended`,`parked`,`urgency`,`due_at`,`leased_until`);--> statement-breakpoint
CREATE INDEX `by_share` ON `work` (`suspended`,`parked`,`urgency`,`app_no`,`subject_no`,`due_at`,`leased_until`);--> statement-breakpoint
CREATE INDEX `by_subject` ON `work` (`subject_no`,`due_at`,`leased_until`,`size`);--> statement-breakpoint
CREATE INDEX `by_state` ON `schedule_runs` (`state`,`settled_at`);--> statement-breakpoint
CREATE INDEX `by_app` ON `schedules` (`app_no`,`environment`,`next_at`);--> statement-breakpoint
CREATE INDEX `by_due` ON `schedules` (`paused`,`next_at`);--> statement-breakpoint
CREATE INDEX `by_age` ON `firings` (`fired_at`);--> statement-breakpoint
CREATE INDEX `by_due_of_trigger` ON `firings` (`state`,`trigger_no`,`due_at`);--> statement-breakpoint
CREATE INDEX `by_key` ON `firings` (`trigger_no`,`key_hash`,`fired_at`);--> statement-breakpoint
CREATE INDEX `by_trigger` ON `firings` (`trigger_no`,`no`);--> statement-breakpoint
CREATE INDEX `by_poll` ON `sources` (`next_poll_at`);--> statement-breakpoint
CREATE INDEX `by_source` ON `trigger_events` (`app_no`,`environment`,`source_no`,`no`);--> statement-breakpoint
CREATE INDEX `by_source` ON `triggers` (`app_no`,`environment`,`source`,`enabled`);--> statement-breakpoint
CREATE INDEX `by_age` ON `webhook_log` (`at`);--> statement-breakpoint
CREATE INDEX `by_outcome` ON `webhook_log` (`webhook_no`,`outcome`,`no`);--> statement-breakpoint
CREATE INDEX `by_time` ON `webhook_log` (`webhook_no`,`at`);--> statement-breakpoint
CREATE INDEX `by_webhook` ON `webhook_log` (`webhook_no`,`no`);