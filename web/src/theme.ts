import { usePreferredDark, useStorage } from '@vueuse/core'
import type { GlobalTheme, GlobalThemeOverrides } from 'naive-ui'
import { computed, shallowRef, watch } from 'vue'

// Slate and rust, after the bird: quiet surfaces, one warm accent.
const shared = {
  borderRadius: '4px',
  fontFamily: 'system-ui, "Segoe UI", "DejaVu Sans", sans-serif',
  fontFamilyMono: 'ui-monospace, "DejaVu Sans Mono", monospace',
  fontSize: '14px',
}

// Dense rows: a site has hundreds of devices.
const table = { tdPaddingSmall: '4px 8px', thPaddingSmall: '6px 8px' }

const light: GlobalThemeOverrides = {
  common: {
    ...shared,
    primaryColor: '#a8451f',
    primaryColorHover: '#bf5629',
    primaryColorPressed: '#8c3816',
    primaryColorSuppl: '#bf5629',
    bodyColor: '#f4f3f0',
    cardColor: '#ffffff',
    textColorBase: '#1f2a33',
    borderColor: '#d5d3cd',
    tableHeaderColor: '#eceae5',
    successColor: '#1d6b45',
    warningColor: '#8a5a00',
    errorColor: '#a3182b',
    infoColor: '#2c5c85',
  },
  DataTable: table,
  Empty: { textColor: '#5c6770' },
}

const dark: GlobalThemeOverrides = {
  common: {
    ...shared,
    primaryColor: '#e58a5f',
    primaryColorHover: '#f0a07a',
    primaryColorPressed: '#cc744b',
    primaryColorSuppl: '#e58a5f',
    bodyColor: '#151b20',
    cardColor: '#1d252b',
    modalColor: '#1d252b',
    popoverColor: '#232c33',
    tableColor: '#1d252b',
    tableHeaderColor: '#232c33',
    successColor: '#6cc495',
    warningColor: '#e0b050',
    errorColor: '#f08a94',
    infoColor: '#8fbbe0',
  },
  DataTable: table,
  Empty: { textColor: '#93a0a9' },
}

// The dark theme holds every component's: it is fetched by those who look at it, and until it is
// here the page is light as a whole.
const darkTheme = shallowRef<GlobalTheme | null>(null)
const prefersDark = usePreferredDark()
const choice = useStorage<'auto' | 'light' | 'dark'>('redstart-theme', 'auto')
const wanted = computed(() => choice.value === 'dark' || (choice.value === 'auto' && prefersDark.value))
const isDark = computed(() => wanted.value && !!darkTheme.value)

async function fetchDark() {
  if (wanted.value && !darkTheme.value) darkTheme.value = (await import('naive-ui/es/themes/dark')).darkTheme
}
watch(wanted, () => void fetchDark().catch(() => {}))

/** Comes once the page can be drawn as it is wanted. */
export const themeReady = () => fetchDark().catch(() => {})

export function useTheme() {
  return {
    isDark,
    theme: computed(() => (isDark.value ? darkTheme.value : null)),
    overrides: computed(() => (isDark.value ? dark : light)),
    toggle: () => (choice.value = wanted.value ? 'light' : 'dark'),
  }
}
