// What the component library leaves without a name for those who do not see the
// page, or out of reach of the keyboard, gets one here.

const named =
  '.n-checkbox[role="checkbox"], .n-base-selection-input, .v-x-scroll, .v-vl, .n-data-table-base-table-header, .n-scrollbar-container'

function name(e: Element) {
  if (e.matches('.n-checkbox')) {
    if (e.textContent?.trim()) return
    const row = e.closest('tr')
    const what =
      row?.parentElement?.tagName === 'THEAD'
        ? 'all'
        : ([...(row?.querySelectorAll('td') ?? [])].map((c) => c.textContent?.trim()).find(Boolean) ?? '')
    e.removeAttribute('aria-labelledby')
    e.setAttribute('aria-label', 'Select ' + what)
  } else if (e.matches('.n-base-selection-input')) {
    if (!e.hasAttribute('aria-label'))
      e.setAttribute(
        'aria-label',
        e.closest('[aria-label]')?.getAttribute('aria-label') ||
          e.getAttribute('placeholder') ||
          e.closest('.n-form-item')?.querySelector('.n-form-item-label')?.textContent?.trim() ||
          'Choose',
      )
  } else if (!e.hasAttribute('tabindex')) {
    e.setAttribute('tabindex', '0')
  }
}

/** Names what is on the page, and whatever comes onto it later. */
export function nameAll(root: Element) {
  const within = (e: Element) => {
    if (e.matches(named)) name(e)
    e.querySelectorAll(named).forEach(name)
  }
  within(root)
  new MutationObserver((changes) => {
    for (const c of changes) for (const n of c.addedNodes) if (n instanceof Element) within(n)
  }).observe(root, { childList: true, subtree: true })
}
