import type { NewTemplate } from '@zbell/contract'

/** What the company says by itself, by name, in the languages of its passengers. */
export const templates: readonly (NewTemplate & { readonly name: string })[] = [
  {
    name: 'delay',
    content: {
      title: '{vessel} is {delay, plural, one {# minute} other {# minutes}} late',
      body: 'New departure at {departs, time, short}, from berth {berth}.',
      navigate: '/sailings/{sailing}',
      channel: 'delays',
      perLanguage: {
        nb: {
          title: '{vessel} er {delay, plural, one {# minutt} other {# minutter}} forsinket',
          body: 'Ny avgang kl. {departs, time, short}, fra kai {berth}.',
        },
        es: {
          title: '{vessel} sale con {delay, plural, one {# minuto} other {# minutos}} de retraso',
          body: 'Nueva salida a las {departs, time, short}, muelle {berth}.',
        },
        ja: {
          title: '{vessel}は{delay}分遅れています',
          body: '新しい出発時刻は{departs, time, short}、{berth}番のりばです。',
        },
        ar: {
          title: 'تأخرت {vessel} {delay, plural, one {دقيقة واحدة} two {دقيقتين} few {# دقائق} other {# دقيقة}}',
          body: 'موعد المغادرة الجديد {departs, time, short}، من الرصيف {berth}.',
        },
      },
    },
    declares: {
      vessel: { type: 'text' },
      delay: { type: 'number' },
      departs: { type: 'instant' },
      berth: { type: 'number' },
      sailing: { type: 'number' },
    },
  },
  {
    name: 'cancelled',
    content: {
      title: 'Sailing {sailing} is cancelled',
      body: '{vessel} does not go today. Your ticket is good on any other sailing.',
      navigate: '/sailings/{sailing}',
      channel: 'delays',
      perLanguage: {
        nb: {
          title: 'Avgang {sailing} er innstilt',
          body: '{vessel} går ikke i dag. Billetten gjelder på enhver annen avgang.',
        },
        es: {
          title: 'Salida {sailing} cancelada',
          body: '{vessel} no sale hoy. Tu billete vale para cualquier otra salida.',
        },
        ja: { title: '{sailing}便は欠航です', body: '{vessel}は本日運航しません。ほかの便をご利用いただけます。' },
        ar: { title: 'أُلغيت الرحلة {sailing}', body: 'لن تبحر {vessel} اليوم. تذكرتك صالحة لأي رحلة أخرى.' },
      },
    },
    declares: { vessel: { type: 'text' }, sailing: { type: 'number' } },
  },
  {
    name: 'place',
    content: {
      title: 'A place on {vessel} is free',
      body: 'It is yours for a quarter of an hour: sailing {sailing}.',
      navigate: '/sailings/{sailing}',
      channel: 'reminders',
      perLanguage: {
        nb: { title: 'Det er ledig plass på {vessel}', body: 'Den er din et kvarter: avgang {sailing}.' },
        es: { title: 'Hay una plaza libre en {vessel}', body: 'Es tuya un cuarto de hora: salida {sailing}.' },
        ja: { title: '{vessel}に空席が出ました', body: '15分間お取り置きします：{sailing}便。' },
        ar: { title: 'مكان شاغر على {vessel}', body: 'محجوز لك ربع ساعة: الرحلة {sailing}.' },
      },
    },
    declares: { vessel: { type: 'text' }, sailing: { type: 'number' } },
  },
]
