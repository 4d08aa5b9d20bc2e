import { ref } from 'vue'

export type Theme = 'system' | 'light' | 'dark'

export const theme = ref<Theme>('system')

const key = 'theme'

export function setTheme(to: Theme): void {
  theme.value = to
  if (to === 'system') {
    delete document.documentElement.dataset.theme
    localStorage.removeItem(key)
  } else {
    document.documentElement.dataset.theme = to
    localStorage.setItem(key, to)
  }
}

export function restoreTheme(): void {
  const kept = localStorage.getItem(key)
  if (kept === 'light' || kept === 'dark') setTheme(kept)
}
