// The colour tokens of docs/design-language.md.
export const light = {
  dark: false,
  colors: {
    background: '#eef1ee',
    surface: '#fbfcfa',
    'surface-variant': '#e2e8e4',
    'on-surface-variant': '#3f4d49',
    primary: '#0d5f5a',
    pass: '#1f6b3a',
    stop: '#9a3412',
    notice: '#8a5a00',
    quiet: '#52605c',
    line: '#cfd8d3',
    error: '#9a3412',
    success: '#1f6b3a',
    warning: '#8a5a00',
  },
}

export const dark = {
  dark: true,
  colors: {
    background: '#0f1716',
    surface: '#17211f',
    'surface-variant': '#22302d',
    'on-surface-variant': '#b9c8c3',
    primary: '#6cc9bd',
    pass: '#86cf9b',
    stop: '#f2a07b',
    notice: '#f0b95b',
    quiet: '#9db0aa',
    line: '#2c3a37',
    error: '#f2a07b',
    success: '#86cf9b',
    warning: '#f0b95b',
  },
}
