/** What a source’s secrets belong to: sealed ones open nowhere else. */
export const sourcePlace = (appNo: number, environment: string, name: string): string =>
  `source ${appNo} ${environment} ${name}`

/** What a webhook’s address and secrets belong to. */
export const webhookPlace = (appNo: number, environment: string, name: string): string =>
  `webhook ${appNo} ${environment} ${name}`
