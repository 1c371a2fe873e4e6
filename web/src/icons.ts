import { h } from 'vue'

// Drawn in a square of 24 by 24, in the colour and at the size of the text beside it.
const icon =
  (...paths: string[]) =>
  () =>
    h(
      'svg',
      {
        viewBox: '0 0 24 24',
        fill: 'none',
        stroke: 'currentColor',
        'stroke-width': 2,
        'stroke-linecap': 'round',
        'stroke-linejoin': 'round',
      },
      paths.map((d) => h('path', { d })),
    )

export const Lock = icon('M6 11h12v9H6z', 'M8 11V7a4 4 0 0 1 8 0v4')
export const Moon = icon('M20 14A8 8 0 0 1 10 4a8 8 0 1 0 10 10z')
export const Out = icon('M11 4H5v16h6', 'M10 12h11', 'M17 8l4 4-4 4')
export const Sliders = icon('M4 6h8M16 6h4M14 4v4', 'M4 12h2M10 12h10M8 10v4', 'M4 18h9M17 18h3M15 16v4')
export const Sun = icon(
  'M12 8a4 4 0 1 0 0 8 4 4 0 0 0 0-8z',
  'M12 2v2M12 20v2M2 12h2M20 12h2M5 5l1.5 1.5M17.5 17.5 19 19M19 5l-1.5 1.5M6.5 17.5 5 19',
)
export const Upload = icon('M4 16v4h16v-4', 'M12 16V4', 'M7 9l5-5 5 5')
