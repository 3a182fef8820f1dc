/** Offers rows as a CSV file for download. */
export function downloadCsv(name: string, header: string[], rows: (string | number | null | undefined)[][]) {
  const cell = (value: string | number | null | undefined) => {
    const text = String(value ?? '')
    // A spreadsheet would run a cell that begins like a formula.
    const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text
    return /[",\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe
  }
  const text = [header, ...rows].map((row) => row.map(cell).join(',')).join('\n')
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: 'text/csv' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
