declare module '@fontsource-variable/inter'
declare module '@fontsource/jetbrains-mono/latin-400.css'
