let known: Promise<ReadonlySet<string>> | undefined

/** What people choose most often, and attackers try first; read when the first password is chosen. */
const commonOnes = async (): Promise<ReadonlySet<string>> => {
  const { dictionary } = await import('@zxcvbn-ts/language-common')
  return new Set(dictionary['passwords-common'] as string[])
}

/** Whether a password is one of the most common, or one of those again and again or with digits and signs around it. */
export async function isCommonPassword(password: string): Promise<boolean> {
  known ??= commonOnes()
  const common = await known
  const small = password.toLowerCase()
  const bare = small.replace(/^[\d\W_]+|[\d\W_]+$/g, '')
  return [small, bare, repeated(small), repeated(bare)].some((one) => one !== '' && common.has(one))
}

/** The part that a text is made of when it is the same again and again. */
const repeated = (text: string): string => /^(.+?)\1+$/.exec(text)?.[1] ?? text
