import { createBrowserRouter } from 'react-router'
import { Failure } from '../parts/page.tsx'
import { Start } from '../setup/start.tsx'
import { WatchRoot } from './watch.tsx'

/** Each page comes when somebody goes there. In development there is one more, with every part in every state. */
export const router = createBrowserRouter([
  ...(import.meta.env.DEV ? [page('parts', async () => (await import('../parts-page/parts-page.tsx')).PartsPage)] : []),
  {
    path: '/',
    element: <WatchRoot />,
    children: [
      {
        // A page that fails leaves the frame standing.
        errorElement: (
          <div className="p-10">
            <Failure error={undefined} onAgain={() => location.reload()} />
          </div>
        ),
        hydrateFallbackElement: <div />,
        children: [
          page('activity', async () => (await import('../activity/activity-page.tsx')).ActivityPage),
          page('activity/:id', async () => (await import('../activity/notification-page.tsx')).NotificationPage),
          page('activity/:id/why/:who?', async () => (await import('../activity/why-page.tsx')).WhyPage),
          page('why', async () => (await import('../activity/why-start-page.tsx')).WhyStartPage),
          page('setup', async () => (await import('../setup/setup-page.tsx')).SetupPage),
          page('app', async () => (await import('../apps/app-page.tsx')).AppPage),
          page('credentials', async () => (await import('../credentials/credentials-page.tsx')).CredentialsPage),
          page('gateways', async () => (await import('../gateways/gateways-page.tsx')).GatewaysPage),
          page('gateways/:platform', async () => (await import('../gateways/gateway-page.tsx')).GatewayPage),
          page('devices', async () => (await import('../devices/devices-page.tsx')).DevicesPage),
          page('devices/:id', async () => (await import('../devices/device-page.tsx')).DevicePage),
          page('people', async () => (await import('../people/people-page.tsx')).PeoplePage),
          page('people/:user', async () => (await import('../people/person-page.tsx')).PersonPage),
          page('segments', async () => (await import('../segments/segments-page.tsx')).SegmentsPage),
          page('segments/:name', async () => (await import('../segments/segment-page.tsx')).SegmentPage),
          page('upcoming', async () => (await import('../upcoming/upcoming-page.tsx')).UpcomingPage),
          page('upcoming/:name', async () => (await import('../upcoming/schedule-page.tsx')).SchedulePage),
          page('sources', async () => (await import('../sources/sources-page.tsx')).SourcesPage),
          page('sources/:name', async () => (await import('../sources/source-page.tsx')).SourcePage),
          page('new-source', async () => (await import('../sources/new-source-page.tsx')).NewSourcePage),
          page('webhooks', async () => (await import('../webhooks/webhooks-page.tsx')).WebhooksPage),
          page('webhooks/:name', async () => (await import('../webhooks/webhook-page.tsx')).WebhookPage),
          page('webhooks/:name/:entry', async () => (await import('../webhooks/entry-page.tsx')).WebhookEntryPage),
          page('new-webhook', async () => (await import('../webhooks/new-webhook-page.tsx')).NewWebhookPage),
          page('new-trigger', async () => (await import('../triggers/new-trigger-page.tsx')).NewTriggerPage),
          page('triggers', async () => (await import('../triggers/triggers-page.tsx')).TriggersPage),
          page('triggers/:name', async () => (await import('../triggers/trigger-page.tsx')).TriggerPage),
          page('channels', async () => (await import('../channels/channels-page.tsx')).ChannelsPage),
          page('stop', async () => (await import('../stop/stop-page.tsx')).StopPage),
          page('topics', async () => (await import('../topics/topics-page.tsx')).TopicsPage),
          page('health', async () => (await import('../health/health-page.tsx')).HealthPage),
          page('bench', async () => (await import('../test-bench/test-bench-page.tsx')).TestBenchPage),
          page('write', async () => (await import('../write/write-page.tsx')).WritePage),
          { index: true, element: <Start /> },
          { path: '*', element: <Start /> },
        ],
      },
    ],
  },
])

function page(path: string, load: () => Promise<() => React.ReactNode>) {
  return { path, lazy: async () => ({ Component: await load() }) }
}
