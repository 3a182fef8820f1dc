// Before the first paint: the chosen theme, or the system's.
;(() => {
  let chosen = null
  try {
    chosen = localStorage.getItem('theme')
  } catch {
    // Storage may be forbidden; the system's theme then.
  }
  const dark = chosen ? chosen === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches
  document.documentElement.dataset.theme = dark ? 'dark' : 'light'
})()
