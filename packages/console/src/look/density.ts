export const densities = ['roomy', 'compact'] as const
export type Density = (typeof densities)[number]

const keptAs = 'bell-density'

/** How much air rows and controls have; this browser's choice. */
export const readDensity = (): Density => (localStorage.getItem(keptAs) === 'compact' ? 'compact' : 'roomy')

export function applyDensity(density: Density): void {
  localStorage.setItem(keptAs, density)
  document.documentElement.dataset.density = density
}
