// How colours, sizes and type come to where they are used: pages and CSS have them as variables (--ground, --ink, …), antd
// as tokens.
import { type ThemeConfig, theme } from 'antd';

import { palettes } from './colours';

export type Theme = keyof typeof palettes;

export const sans = 'system-ui, -apple-system, "Segoe UI", "Noto Sans", "DejaVu Sans", sans-serif';
export const mono = 'ui-monospace, "SF Mono", "Cascadia Mono", "DejaVu Sans Mono", monospace';

/** The palette; where the reader's system asks for more contrast, what is soft is as strong as the rest. */
function colours(name: Theme): typeof palettes.light {
  const own = palettes[name];
  const more = window.matchMedia('(prefers-contrast: more)').matches;
  return more ? { ...own, rule: own.soft, soft: own.ink, quiet: own.ink } : own;
}

/** Sets the palette's colours as CSS variables on the document. */
export function apply(name: Theme) {
  const root = document.documentElement;
  root.dataset.theme = name;
  root.style.colorScheme = name;
  for (const [key, value] of Object.entries(colours(name))) root.style.setProperty(`--${key}`, value);
}

export function antdTheme(name: Theme): ThemeConfig {
  const colors = colours(name);
  const brand = (seed: ReturnType<typeof theme.defaultAlgorithm>) => ({
    ...seed,
    colorBgBase: colors.ground,
    colorBgContainer: colors.panel,
    colorBgElevated: colors.panel,
    colorBorder: colors.rule,
    colorBorderSecondary: colors.rule,
    colorText: colors.ink,
    colorTextSecondary: colors.soft,
  });
  return {
    algorithm: [
      name === 'dark' ? theme.darkAlgorithm : theme.defaultAlgorithm,
      theme.compactAlgorithm,
      (_seed, map) => brand(map ?? theme.defaultAlgorithm(theme.defaultSeed)),
    ],
    hashed: false,
    cssVar: { prefix: 'ui' },
    token: {
      // Given as tokens, so that antd makes all that it derives from a colour out of ours. What the pointer is on is read as
      // well as anything else: those it would make lighter.
      colorPrimary: colors.accent,
      colorTextLightSolid: name === 'light' ? colors.panel : colors.ground,
      colorPrimaryHover: colors.lit,
      colorPrimaryActive: colors.lit,
      colorPrimaryBg: colors.ground,
      colorPrimaryBgHover: colors.rule,
      colorLink: colors.accent,
      colorLinkHover: colors.lit,
      colorLinkActive: colors.lit,
      colorError: colors.failed,
      fontFamily: sans,
      fontFamilyCode: mono,
      fontSize: 14,
      borderRadius: 2,
      borderRadiusLG: 2,
      borderRadiusSM: 2,
      motionDurationMid: '0.15s',
      boxShadow: 'none',
      colorTextPlaceholder: colors.soft,
      colorTextDescription: colors.soft,
    },
  };
}
