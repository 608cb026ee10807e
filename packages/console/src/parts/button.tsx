import type { LucideIcon } from 'lucide-react'
import type { ComponentProps, ReactNode } from 'react'
import { Link } from 'react-router'

/**
 * How much an action matters where it stands: the one sensible next thing, of which a view has one; what else can be done;
 * what goes along in a line; what cannot be undone.
 */
export type Rank = 'primary' | 'secondary' | 'quiet' | 'danger'

const base =
  'inline-flex min-h-(--control-height) cursor-pointer items-center justify-center gap-2 rounded-control no-underline transition-colors duration-(--duration-answer) disabled:cursor-default disabled:opacity-55 forced-colors:border'
const ranks: Readonly<Record<Rank, string>> = {
  primary: 'bg-brass px-4 py-1.5 font-semibold text-on-brass enabled:hover:brightness-110',
  secondary: 'border border-edge px-4 py-1.5 enabled:hover:bg-sunken',
  quiet: 'px-2 py-1 underline decoration-soft decoration-1 underline-offset-4 enabled:hover:bg-sunken',
  danger: 'border border-red px-4 py-1.5 text-red enabled:hover:bg-red-wash',
}

/** The look of an action that is no button, such as a trigger or a link. */
export const actionLook = (rank: Rank): string => `${base} ${ranks[rank]}`

type ButtonProps = ComponentProps<'button'> & {
  readonly rank?: Rank
  readonly icon?: LucideIcon | undefined
  /** It was pressed, and what it does goes on. */
  readonly busy?: boolean
}

/** Something to do. Shown wherever an act changes something here; what leads elsewhere is an {@link ActionLink}. */
export function Button({
  rank = 'secondary',
  icon: Icon,
  busy,
  disabled,
  className = '',
  children,
  ...props
}: ButtonProps) {
  return (
    <button
      type="button"
      {...props}
      className={`${actionLook(rank)} ${className}`}
      disabled={disabled || busy}
      aria-busy={busy || undefined}
    >
      {Icon && <Icon size={18} aria-hidden="true" className={busy ? 'animate-wait' : ''} />}
      {children}
    </button>
  )
}

type IconButtonProps = Omit<ButtonProps, 'icon' | 'rank' | 'children'> & {
  readonly icon: LucideIcon
  /** What it does, for who cannot see it; also its tip. */
  readonly label: string
}

/** A small act within a row or a chip, where words would be louder than the thing itself. */
export function IconButton({ icon: Icon, label, className = '', ...props }: IconButtonProps) {
  return (
    <button
      type="button"
      title={label}
      aria-label={label}
      {...props}
      className={`inline-flex size-8 shrink-0 cursor-pointer items-center justify-center rounded-control text-soft hover:bg-sunken hover:text-ink disabled:cursor-default disabled:opacity-55 ${className}`}
    >
      <Icon size={18} aria-hidden="true" />
    </button>
  )
}

type ActionLinkProps = {
  readonly to: string
  readonly rank?: Rank
  readonly icon?: LucideIcon
  readonly children: ReactNode
}

/** The way to another page, as an action. */
export function ActionLink({ to, rank = 'secondary', icon: Icon, children }: ActionLinkProps) {
  return (
    <Link to={to} className={actionLook(rank)}>
      {Icon && <Icon size={18} aria-hidden="true" />}
      {children}
    </Link>
  )
}
