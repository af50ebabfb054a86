import { theme as looks, type ThemeConfig } from 'antd'

// The one home of colours: CSS variables for our own parts, theme tokens for
// the component library.
export const light = {
  scheme: 'light',
  paper: '#FBFAF7',
  raised: '#FFFFFF',
  line: '#DDE0DA',
  ink: '#1E2A2F',
  second: '#56646A',
  spruce: '#1F5E55',
  tide: '#2F6DA8',
  dusk: '#6B5CA5',
  leaf: '#2B7A5B',
  ochre: '#A86E12',
  brick: '#B23A2E',
  removed: '#FBEDEA',
  added: '#E9F4EE',
}

export type Palette = typeof light

export const dark: Palette = {
  scheme: 'dark',
  paper: '#12181A',
  raised: '#1A2226',
  line: '#2C373B',
  ink: '#E6EAE7',
  second: '#9FADB0',
  spruce: '#5DB8A6',
  tide: '#6FA8DC',
  dusk: '#A799DD',
  leaf: '#5FBF95',
  ochre: '#DDA64A',
  brick: '#F08A7A',
  removed: '#3A2523',
  added: '#1D3329',
}

export function variables(p: Palette): Record<string, string> {
  return Object.fromEntries(Object.entries(p).map(([name, value]) => [`--${name}`, value]))
}

export function theme(p: Palette): ThemeConfig {
  return {
    cssVar: {},
    algorithm: p.scheme === 'dark' ? looks.darkAlgorithm : looks.defaultAlgorithm,
    token: {
      colorPrimary: p.spruce,
      colorLink: p.spruce,
      colorError: p.brick,
      colorWarning: p.ochre,
      colorSuccess: p.leaf,
      colorInfo: p.tide,
      colorBgBase: p.raised,
      colorBgLayout: p.paper,
      colorBgContainer: p.raised,
      colorBgElevated: p.raised,
      colorBgContainerDisabled: p.paper,
      colorTextBase: p.ink,
      colorText: p.ink,
      colorTextSecondary: p.second,
      colorTextTertiary: p.second,
      colorTextDescription: p.second,
      colorTextPlaceholder: p.second,
      colorTextDisabled: p.second,
      colorTextLightSolid: p.scheme === 'dark' ? p.paper : p.raised,
      colorPrimaryHover: p.spruce,
      colorPrimaryActive: p.spruce,
      colorBorder: p.line,
      colorBorderSecondary: p.line,
      borderRadius: 3,
      fontFamily: "'IBM Plex Sans', sans-serif",
      fontFamilyCode: "'IBM Plex Mono', monospace",
      fontSize: 14,
      lineHeight: 20 / 14,
      motion: false,
      boxShadow: 'none',
      boxShadowSecondary: `0 2px 10px ${p.line}`,
    },
    components: {
      Button: { primaryShadow: 'none', defaultShadow: 'none', dangerShadow: 'none', fontWeight: 500 },
    },
  }
}
