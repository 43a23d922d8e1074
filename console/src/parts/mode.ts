export type Mode = 'auto' | 'light' | 'dark'
const dark = window.matchMedia('(prefers-color-scheme: dark)')

export const mode = (): Mode => (localStorage.getItem('mode') as Mode | null) ?? 'auto'

/** Applies light or dark as chosen, or as the system has it. */
export function applyMode(next: Mode = mode()) {
  localStorage.setItem('mode', next)
  document.documentElement.dataset.bsTheme = next === 'auto' ? (dark.matches ? 'dark' : 'light') : next
}
dark.addEventListener('change', () => applyMode())
