import { execFileSync } from 'node:child_process'

/** The command lines of processes that name this folder. */
export const processesOf = (data: string): string[] =>
  execFileSync('ps', ['-eo', 'args'], { encoding: 'utf8' })
    .split('\n')
    .filter((line) => line.includes(data))
