import { ref, watchEffect } from 'vue'

type Theme = 'light' | 'dark'
const asked = window.matchMedia('(prefers-color-scheme: dark)')

export const theme = ref<Theme>((localStorage.getItem('theme') as Theme | null) ?? (asked.matches ? 'dark' : 'light'))

watchEffect(() => document.documentElement.setAttribute('data-bs-theme', theme.value))

export function otherTheme(): void {
  theme.value = theme.value === 'dark' ? 'light' : 'dark'
  localStorage.setItem('theme', theme.value)
}
