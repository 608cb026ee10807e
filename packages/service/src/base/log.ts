import { type Logger, pino } from 'pino'

/** Structured logs, a JSON object a line, on stderr. What could hold a secret is taken out wherever it stands. */
export const makeLog = (level: string): Logger =>
  pino(
    {
      level,
      base: { service: 'zbell' },
      timestamp: pino.stdTimeFunctions.isoTime,
      redact: {
        paths: [
          '*.authorization',
          '*.token',
          '*.secret',
          '*.password',
          '*.jwk',
          'authorization',
          'token',
          'secret',
          'password',
          'jwk',
        ],
        censor: '(taken out)',
      },
    },
    pino.destination({ fd: 2, sync: true }),
  )
