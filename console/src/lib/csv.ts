/** What steers a terminal, turns text around or is not seen at all, as the service writes it out. */
const odd = /[\p{Cc}\u00ad\u061c\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff9-\ufffb\u{e0000}-\u{e007f}]/gu

/** Text as one cell: nothing invisible, and no formula in whatever program opens it. */
export function csvCell(value: string | number | null | undefined): string {
  const shown = String(value ?? '').replace(odd, (character) => `\\u{${character.codePointAt(0)?.toString(16)}}`)
  const safe = /^[=+\-@]/.test(shown) ? `'${shown}` : shown
  return /[",]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe
}

/** Offers rows as a CSV file for download. */
export function downloadCsv(name: string, header: string[], rows: (string | number | null | undefined)[][]) {
  const text = [header, ...rows].map((row) => row.map(csvCell).join(',')).join('\n')
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: 'text/csv' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
