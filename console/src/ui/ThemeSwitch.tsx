import { useState } from 'react'
import { Button } from './Button'

/** Light and dark. */
export function ThemeSwitch() {
  const [theme, setTheme] = useState(document.documentElement.dataset.theme)
  const other = theme === 'dark' ? 'light' : 'dark'
  const turn = () => {
    document.documentElement.dataset.theme = other
    try {
      localStorage.setItem('theme', other)
    } catch {
      // Storage may be forbidden; the choice then lasts as long as the page.
    }
    setTheme(other)
  }
  return (
    <Button onClick={turn}>
      <span aria-hidden="true">{theme === 'dark' ? '☾' : '☀'}</span> {theme === 'dark' ? 'Dark' : 'Light'}
      <span className="sr-only">. Switch to {other} theme</span>
    </Button>
  )
}
