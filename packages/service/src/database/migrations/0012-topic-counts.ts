/** How many members a large topic had when they were last counted; null for one that is counted when somebody asks. */
export const topicCounts = ['alter table topics add column counted_devices bigint, add column counted_users bigint']
