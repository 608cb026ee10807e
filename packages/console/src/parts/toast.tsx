import { CircleCheck, TriangleAlert, X } from 'lucide-react'
import { Toast as Radix } from 'radix-ui'
import { createContext, type ReactNode, useCallback, useContext, useMemo, useState } from 'react'
import { IconButton } from './button.tsx'

type Said = { readonly no: number; readonly says: string; readonly good: boolean }

const ToastContext = createContext<(says: string, good?: boolean) => void>(() => {})

/**
 * Says that something was done which the page itself does not show, or that it was not. What a person has to deal with stands
 * on the page, never here.
 */
export const useToast = () => useContext(ToastContext)

const shownMs = 6_000

export function Toasts({ children }: { readonly children: ReactNode }) {
  const [all, setAll] = useState<readonly Said[]>([])
  const say = useCallback((says: string, good = true) => {
    setAll((before) => [...before.slice(-2), { no: (before.at(-1)?.no ?? 0) + 1, says, good }])
  }, [])
  const value = useMemo(() => say, [say])
  return (
    <ToastContext.Provider value={value}>
      <Radix.Provider duration={shownMs} label="Message">
        {children}
        {all.map(({ no, says, good }) => (
          <Radix.Root
            key={no}
            type={good ? 'background' : 'foreground'}
            onOpenChange={(open) => !open && setAll((before) => before.filter((one) => one.no !== no))}
            className="flex animate-come items-center gap-3 rounded-float bg-night py-2.5 ps-4 pe-2 text-on-night shadow-front"
          >
            {good ? <CircleCheck size={18} aria-hidden="true" /> : <TriangleAlert size={18} aria-hidden="true" />}
            <Radix.Title className="grow">{says}</Radix.Title>
            <Radix.Close asChild>
              <IconButton
                icon={X}
                label="Dismiss"
                className="text-on-night-soft hover:bg-night-line hover:text-on-night"
              />
            </Radix.Close>
          </Radix.Root>
        ))}
        <Radix.Viewport className="fixed end-4 bottom-20 z-50 grid w-96 max-w-[calc(100vw-2rem)] gap-2 outline-none md:bottom-4" />
      </Radix.Provider>
    </ToastContext.Provider>
  )
}
