import { createTheme } from "@mui/material/styles";
import { dark, figures, light, properties, words } from "./tokens";

function palette(tokens: typeof light) {
  return {
    primary: { main: tokens.act, contrastText: tokens.actText },
    error: { main: tokens.stop },
    warning: { main: tokens.heed },
    info: { main: tokens.done },
    success: { main: tokens.fill },
    background: { default: tokens.paper, paper: tokens.sheet },
    text: { primary: tokens.ink, secondary: tokens.ink2, disabled: tokens.ink3 },
    divider: tokens.line,
  };
}

/** Look and density of every MUI component, in one place. */
export const theme = createTheme({
  cssVariables: true,
  colorSchemes: { light: { palette: palette(light) }, dark: { palette: palette(dark) } },
  shape: { borderRadius: 6 },
  typography: {
    fontFamily: words,
    fontSize: 15,
    htmlFontSize: 16,
    button: { textTransform: "none", fontWeight: 650 },
    h1: { fontSize: 23, fontWeight: 680, lineHeight: 1.1, letterSpacing: "-0.015em" },
    h2: { fontSize: 15, fontWeight: 650, lineHeight: 1.3 },
    body1: { fontSize: 15, lineHeight: 1.35 },
    body2: { fontSize: 14, lineHeight: 1.35 },
  },
  transitions: {
    duration: {
      shortest: 80,
      shorter: 90,
      short: 100,
      standard: 120,
      complex: 140,
      enteringScreen: 120,
      leavingScreen: 100,
    },
  },
  components: {
    MuiCssBaseline: {
      styleOverrides: {
        ":root": properties(light),
        "@media (prefers-color-scheme: dark)": { ":root": properties(dark) },
        "@media (prefers-reduced-motion: reduce)": {
          "*, *::before, *::after": { transition: "none !important", animation: "none !important" },
        },
        "*": { scrollbarWidth: "thin", scrollbarColor: "var(--line-strong) transparent" },
        ".printed": { display: "none" },
        "@page": { margin: "18mm" },
        "@media print": {
          "#root, .MuiDialog-root": { display: "none !important" },
          ".printed": { display: "block" },
          ".printed + .printed": { breakBefore: "page" },
          // Of several papers on one page, the one that was asked for.
          "body[data-paper=pick] .printed:not([data-paper=pick])": { display: "none" },
          "body[data-paper=slip] .printed:not([data-paper=slip])": { display: "none" },
          body: { background: "#fff !important", height: "auto" },
        },
        html: { height: "100%" },
        body: {
          height: "100%",
          background: "var(--paper)",
          color: "var(--ink)",
          fontFamily: words,
          fontSize: 15,
          lineHeight: 1.35,
          fontVariantNumeric: "tabular-nums",
        },
        "#root": { height: "100%" },
        // Ink reads on every ground; the halo says that one is here.
        ":focus-visible": { outline: "2px solid var(--ink)", outlineOffset: 1, boxShadow: "0 0 0 5px var(--here)" },
        // What holds rows or a roll marks the row in it, not itself.
        "[role=grid]:focus-visible, #roll:focus-visible": { boxShadow: "none" },
        kbd: {
          font: `600 11px/16px ${figures}`,
          border: "1px solid var(--control)",
          borderRadius: 4,
          padding: "0 5px",
          color: "var(--ink-2)",
          background: "var(--sheet)",
          whiteSpace: "nowrap",
        },
        ".nowrap": { whiteSpace: "nowrap" },
        // One look for what is chosen from a list, in a form, a grid or beside a list.
        "select:not(.MuiNativeSelect-select)": {
          appearance: "none",
          // Two strokes for an arrow: pictures come from the application's own address only.
          backgroundImage:
            "linear-gradient(45deg, transparent 50%, var(--ink-3) 50%), linear-gradient(-45deg, transparent 50%, var(--ink-3) 50%)",
          backgroundSize: "5px 5px",
          backgroundRepeat: "no-repeat",
          backgroundPosition: "right 12px center, right 7px center",
        },
        "button.quietly": {
          border: 0,
          background: "none",
          font: "inherit",
          fontWeight: 600,
          color: "var(--ink)",
          cursor: "pointer",
          textDecoration: "underline",
          textDecorationColor: "var(--line-strong)",
          textUnderlineOffset: 3,
          padding: "2px 4px",
        },
        a: { color: "inherit", textDecorationColor: "var(--line-strong)", textUnderlineOffset: 3 },
        "a:hover": { textDecorationColor: "currentColor" },
      },
    },
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    MuiButton: {
      defaultProps: { disableElevation: true },
      styleOverrides: {
        root: {
          borderRadius: 7,
          padding: "7px 14px",
          gap: 10,
          fontSize: 15,
          lineHeight: 1.35,
          whiteSpace: "nowrap",
          "& kbd": { background: "transparent", color: "inherit", borderColor: "currentColor" },
        },
        text: {
          padding: "5px 6px",
          gap: 6,
          minWidth: 0,
          color: "var(--ink)",
          "& kbd": { background: "var(--sheet)", color: "var(--ink-2)", borderColor: "var(--control)" },
        },
      },
    },
    MuiTextField: { defaultProps: { size: "small", variant: "outlined", autoComplete: "off" } },
    MuiOutlinedInput: {
      // Labels always stand in the border; without the notch it would run through them.
      defaultProps: { notched: true },
      styleOverrides: {
        root: {
          background: "var(--sheet)",
          "& .MuiOutlinedInput-notchedOutline": { borderColor: "var(--control)" },
          // Within the border: the label stands on it.
          "&.Mui-focused": { boxShadow: "inset 0 0 0 2.5px var(--here)" },
          "&.Mui-focused .MuiOutlinedInput-notchedOutline": { borderColor: "var(--ink)", borderWidth: 1 },
          "& input:focus-visible, & select:focus-visible, & textarea:focus-visible": {
            outline: "none",
            boxShadow: "none",
          },
        },
        input: { padding: "6px 10px", fontVariantNumeric: "tabular-nums", height: "1.4em" },
      },
    },
    MuiInputLabel: {
      defaultProps: { shrink: true },
      styleOverrides: { root: { color: "var(--ink-2)", "&.Mui-focused": { color: "var(--ink)" } } },
    },
    MuiFormHelperText: { styleOverrides: { root: { marginLeft: 2, marginTop: 2, fontSize: 13 } } },
    MuiBackdrop: { styleOverrides: { root: { backgroundColor: "rgb(36 42 30 / 32%)" } } },
    MuiDialog: {
      // A dialog on its way out would swallow the next key.
      defaultProps: { transitionDuration: 0 },
      styleOverrides: {
        container: { alignItems: "flex-start", paddingTop: "9vh" },
        paper: {
          background: "var(--sheet)",
          border: "1px solid var(--line-strong)",
          borderRadius: 10,
          backgroundImage: "none",
        },
      },
    },
    MuiCheckbox: {
      defaultProps: { size: "small" },
      styleOverrides: {
        root: {
          padding: 2,
          color: "var(--control)",
          "&.Mui-checked, &.MuiCheckbox-indeterminate": { color: "var(--act)" },
          "& svg": { fontSize: 20 },
        },
      },
    },
    MuiFormControlLabel: { styleOverrides: { root: { margin: 0, gap: 4 } } },
    MuiRadio: {
      defaultProps: { size: "small" },
      styleOverrides: {
        root: {
          padding: 2,
          color: "var(--control)",
          "&.Mui-checked": { color: "var(--act)" },
          "& svg": { fontSize: 19 },
        },
      },
    },
    MuiAutocomplete: { styleOverrides: { inputRoot: { padding: "3.5px 8px !important" } } },
  },
});
