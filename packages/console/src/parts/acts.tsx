import { useMutation } from '@tanstack/react-query'
import type { ReactNode } from 'react'
import { useNavigate } from 'react-router'
import { Button } from './button.tsx'
import { Confirm } from './dialog.tsx'
import { Failure } from './page.tsx'

/** Switches something on and off. @param onSwitch ends when what is shown is as it is now */
export function SwitchIt({
  isOn,
  onSwitch,
}: {
  readonly isOn: boolean
  readonly onSwitch: (isOn: boolean) => Promise<unknown>
}) {
  const change = useMutation({ mutationFn: () => onSwitch(!isOn) })
  return (
    <>
      {change.error && <Failure error={change.error} />}
      <Button rank={isOn ? 'secondary' : 'primary'} busy={change.isPending} onClick={() => change.mutate()}>
        {isOn ? 'Switch off' : 'Switch on'}
      </Button>
    </>
  )
}

type DeleteProps = {
  readonly name: string
  readonly onDelete: () => Promise<unknown>
  /** The list in which it stood. */
  readonly to: string
  /** Reads that list anew. */
  readonly onGone: () => Promise<unknown>
  /** What goes with it. */
  readonly children: ReactNode
}

/** Deletes something after asking, and leads to the list in which it stood. */
export function DeleteIt({ name, onDelete, to, onGone, children }: DeleteProps) {
  const go = useNavigate()
  const remove = useMutation({
    mutationFn: onDelete,
    onSuccess: async () => {
      await go(to)
      await onGone()
    },
  })
  return (
    <>
      {remove.error && <Failure error={remove.error} />}
      <Confirm
        title={`Delete ${name}?`}
        yes="Delete it"
        onYes={() => remove.mutate()}
        trigger={<Button rank="danger">Delete</Button>}
      >
        {children}
      </Confirm>
    </>
  )
}
