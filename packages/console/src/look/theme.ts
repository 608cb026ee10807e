export const themes = ['system', 'light', 'dark'] as const
export type Theme = (typeof themes)[number]

const keptAs = 'bell-theme'
const night = matchMedia('(prefers-color-scheme: dark)')

export function readTheme(): Theme {
  const kept = localStorage.getItem(keptAs)
  return themes.find((theme) => theme === kept) ?? 'system'
}

export function applyTheme(theme: Theme): void {
  localStorage.setItem(keptAs, theme)
  const dark = theme === 'dark' || (theme === 'system' && night.matches)
  document.documentElement.dataset.theme = dark ? 'dark' : 'light'
}

night.addEventListener('change', () => applyTheme(readTheme()))
