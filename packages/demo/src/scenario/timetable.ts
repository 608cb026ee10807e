import type { NotificationRequest, When } from '@zbell/contract'

type Planned = { readonly name: string; readonly when: When; readonly notification: NotificationRequest }

const zone = 'Europe/Oslo'

/** What the company rings by the clock. */
export const timetable: readonly Planned[] = [
  {
    name: 'evening-reminder',
    when: { from: '2026-11-02T18:00', zone: 'reader', repeat: 'FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,SU' },
    notification: {
      to: { any: ['segment:commuters'] },
      content: {
        title: 'Your boat tomorrow',
        body: 'The first sailing leaves at 06:40. Boarding opens ten minutes before.',
        navigate: '/sailings',
        tag: 'tomorrow',
        channel: 'reminders',
      },
    },
  },
  {
    name: 'weekend-offer',
    when: { from: '2026-11-06T07:30', zone: 'reader', repeat: 'FREQ=WEEKLY;BYDAY=FR' },
    notification: {
      to: { any: ['topic:weather', 'segment:commuters'] },
      content: {
        title: 'The islands this weekend',
        body: 'Two cross for the price of one, Saturday and Sunday.',
        navigate: '/offers/weekend',
        channel: 'offers',
      },
    },
  },
  {
    name: 'timetable-refresh',
    when: { from: '2026-11-02T04:15', zone, repeat: 'FREQ=WEEKLY;BYDAY=MO' },
    notification: {
      to: { any: ['everyone'] },
      mode: 'wake',
      urgency: 'low',
      spreadSeconds: 1_800,
      content: { data: { refresh: 'timetable' } },
    },
  },
  {
    name: 'season-pass-renewal',
    when: { from: '2026-11-01T10:00', zone, repeat: 'FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=1' },
    notification: {
      to: { any: ['segment:season-ending'] },
      content: {
        title: 'Your season pass ends soon',
        body: 'Renew it in the app, and keep your place on the car deck.',
        navigate: '/passes/renew',
        channel: 'reminders',
      },
    },
  },
]
