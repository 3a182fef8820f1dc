import messages from './messages.json'

/** What this page says: the English text is its own key; German and French stand beside it, and a site may bring its own. */
export type Message = keyof typeof messages
type Own = Record<string, string>

const KEPT = 'handset-language'
const COLUMNS: Record<string, number> = { de: 0, fr: 1 }

let language = kept() ?? navigator.language
let own: Own = {}
const listeners = new Set<() => void>()

function kept(): string | undefined {
  try {
    return localStorage.getItem(KEPT) ?? undefined
  } catch {
    return undefined
  }
}

/** The language that the page speaks, by its tag. */
export const currentLanguage = () => language

/** Whoever draws the page hears of another language. */
export function onLanguage(listener: () => void): () => void {
  listeners.add(listener)
  return () => listeners.delete(listener)
}

/** Speaks the person's language from now on; an empty tag leaves it as it is. */
export function speak(tag: string, texts: Own = own) {
  const wanted = tag || language
  document.documentElement.lang = wanted.split('-')[0] || 'en'
  const same = JSON.stringify(texts) === JSON.stringify(own)
  if (wanted === language && same) return
  // The site's texts are for one language.
  own = wanted !== language && same ? {} : texts
  language = wanted
  try {
    localStorage.setItem(KEPT, wanted)
  } catch {
    // Storage may be forbidden; the browser's language then, next time.
  }
  for (const listener of listeners) listener()
}

/** A text in the page's language, its places filled in. */
export function t(message: Message, places: Record<string, string | number> = {}): string {
  const column = COLUMNS[language.split('-')[0] ?? '']
  const shipped = column === undefined ? message : (messages[message][column] ?? message)
  const text = own[message] ?? shipped
  return text.replace(/\{(\w+)\}/g, (place, name: string) => String(places[name] ?? place))
}
