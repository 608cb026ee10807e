import {
  Activity,
  Bell,
  BellRing,
  CalendarClock,
  DatabaseZap,
  Filter,
  FlaskConical,
  HeartPulse,
  KeyRound,
  type LucideIcon,
  OctagonX,
  PenLine,
  RadioTower,
  Route,
  ScrollText,
  SearchCheck,
  Smartphone,
  Tags,
  Users,
  Webhook,
  Zap,
} from 'lucide-react'

export type PageEntry = { readonly to: string; readonly name: string; readonly icon: LucideIcon }
export type PlaceEntry = { readonly name: string; readonly icon: LucideIcon; readonly pages: readonly PageEntry[] }

/** Three places, in the order of the work, each with its pages. */
export const places: readonly PlaceEntry[] = [
  {
    name: 'Prepare',
    icon: Route,
    pages: [
      { to: '/setup', name: 'Setup', icon: Route },
      { to: '/app', name: 'App and keys', icon: KeyRound },
      { to: '/credentials', name: 'Credentials', icon: ScrollText },
      { to: '/gateways', name: 'Gateways', icon: RadioTower },
      { to: '/devices', name: 'Devices', icon: Smartphone },
      { to: '/people', name: 'People', icon: Users },
      { to: '/topics', name: 'Topics', icon: Tags },
      { to: '/segments', name: 'Segments', icon: Filter },
      { to: '/channels', name: 'Channels', icon: BellRing },
      { to: '/sources', name: 'Sources', icon: DatabaseZap },
      { to: '/webhooks', name: 'Webhooks', icon: Webhook },
    ],
  },
  {
    name: 'Ring',
    icon: Bell,
    pages: [
      { to: '/write', name: 'Write', icon: PenLine },
      { to: '/upcoming', name: 'Upcoming', icon: CalendarClock },
      { to: '/triggers', name: 'Triggers', icon: Zap },
      { to: '/stop', name: 'Stop', icon: OctagonX },
    ],
  },
  {
    name: 'Listen',
    icon: Activity,
    pages: [
      { to: '/activity', name: 'Activity', icon: Activity },
      { to: '/why', name: 'Why', icon: SearchCheck },
      { to: '/bench', name: 'Test bench', icon: FlaskConical },
      { to: '/health', name: 'Health', icon: HeartPulse },
    ],
  },
]

/** The place that a page belongs to. */
export const placeOf = (pathname: string): PlaceEntry | undefined =>
  places.find(({ pages }) => pages.some(({ to }) => pathname === to || pathname.startsWith(`${to}/`)))
