import { createTheme } from "@mui/material/styles";

const night = "@media (prefers-color-scheme: dark)";

/** Our theme: the tokens of the look, and MUI's components brought in line with them. */
export const theme = createTheme({
  cssVariables: { colorSchemeSelector: "media" },
  // Who asks the system for less motion gets menus and dialogs that stand at once.
  motion: { reducedMotion: "system" },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: "#2C3A8F", contrastText: "#FFFFFF" },
        error: { main: "#9C3327" },
        warning: { main: "#85560A" },
        background: { default: "#E9EEF1", paper: "#FBFCFD" },
        text: { primary: "#17212B", secondary: "#52606C" },
        divider: "#CBD5DB",
      },
    },
    dark: {
      palette: {
        primary: { main: "#AEBBFA", contrastText: "#141B22" },
        error: { main: "#F0A398" },
        warning: { main: "#E3B566" },
        background: { default: "#141B22", paper: "#1B242D" },
        text: { primary: "#E7EDF2", secondary: "#A7B4BF" },
        divider: "#38454F",
      },
    },
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
          "--mist": "#E9EEF1",
          "--sheet": "#FBFCFD",
          "--ink": "#17212B",
          "--soft": "#52606C",
          "--rule": "#CBD5DB",
          "--deep": "#2C3A8F",
          "--deep-wash": "#CFD8F0",
          "--ochre": "#85560A",
          "--ochre-wash": "#F3E6CB",
          "--brick": "#9C3327",
          "--brick-wash": "#F4DCD8",
          "--on-deep": "#FFFFFF",
          "--band": "#EFEBDF",
          "--a": "#0B6A78",
          "--b": "#8B5E00",
          "--c": "#A3315F",
          "--d": "#5B4B9A",
          "--e": "#4D6B1F",
          "--f": "#5A5A5A",
          colorScheme: "light dark",
        },
        [night]: {
          ":root": {
            "--mist": "#141B22",
            "--sheet": "#1B242D",
            "--ink": "#E7EDF2",
            "--soft": "#A7B4BF",
            "--rule": "#38454F",
            "--deep": "#AEBBFA",
            "--deep-wash": "#2B3566",
            "--ochre": "#E3B566",
            "--ochre-wash": "#3A2F1A",
            "--brick": "#F0A398",
            "--brick-wash": "#43251F",
            "--on-deep": "#141B22",
            "--band": "#2A2C2A",
            "--a": "#63C2D0",
            "--b": "#DDB25A",
            "--c": "#E48AAE",
            "--d": "#B3A6EC",
            "--e": "#A9CC72",
            "--f": "#B4B4B4",
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
