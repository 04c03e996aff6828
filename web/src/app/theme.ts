import { createTheme } from "@mui/material/styles";
import { DAY, NIGHT, palette, properties } from "./palette";

const night = "@media (prefers-color-scheme: dark)";

/** Our theme: the tokens of the look, and MUI's components brought in line with them. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: "media" },
  // Who asks the system for less motion gets menus and dialogs that stand at once.
  motion: { reducedMotion: "system" },
  colorSchemes: {
    light: { palette: palette(DAY) },
    dark: { palette: palette(NIGHT) },
  },
  shape: { borderRadius: 3 },
  typography: {
    fontFamily: '"Atkinson Hyperlegible Next Variable", sans-serif',
    fontSize: 14,
    body1: { fontSize: 15 },
    body2: { fontSize: 14 },
    button: { textTransform: "none", fontWeight: 600, fontSize: 14 },
  },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        ":root": {
          ...properties(DAY),
          colorScheme: "light dark",
        },
        [night]: {
          ":root": {
            ...properties(NIGHT),
          },
        },
        body: { fontSize: 15, lineHeight: 1.42, fontFeatureSettings: '"tnum","lnum","zero"' },
      },
    },
    MuiButton: {
      defaultProps: { disableElevation: true, disableRipple: true },
      styleOverrides: { root: { padding: "6px 13px" } },
    },
    MuiTextField: { defaultProps: { size: "small", fullWidth: true } },
    MuiSelect: { defaultProps: { size: "small" } },
    MuiTableCell: {
      styleOverrides: {
        root: {
          padding: "5px 0 5px 12px",
          borderBottom: "1px solid var(--rule)",
          fontSize: 14,
          "&:first-of-type": { paddingLeft: 0 },
        },
        head: { color: "var(--soft)", fontWeight: 400 },
      },
    },
    MuiFormHelperText: {
      styleOverrides: { root: { color: "var(--soft)", "&.Mui-disabled": { color: "var(--soft)" } } },
    },
    MuiInputLabel: { styleOverrides: { root: { color: "var(--soft)", "&.Mui-disabled": { color: "var(--soft)" } } } },
    MuiSlider: { defaultProps: { size: "small" } },
    MuiDialog: {
      styleOverrides: { paper: { boxShadow: "none", border: "1px solid var(--rule)", backgroundImage: "none" } },
    },
    MuiPaper: { defaultProps: { elevation: 0 } },
    MuiTooltip: { defaultProps: { arrow: false } },
  },
});
