import type { ButtonHTMLAttributes, InputHTMLAttributes, ReactNode } from 'react'

type Look = 'plain' | 'good' | 'bad'
const LOOKS: Record<Look, string> = {
  plain: 'border-rule bg-sheet text-ink',
  good: 'border-flood bg-flood text-sheet',
  bad: 'border-ebb bg-sheet text-ebb',
}

/** A button for thumbs. */
export function Big({
  look = 'plain',
  className = '',
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { look?: Look }) {
  return (
    <button
      type="button"
      className={`min-h-12 w-full rounded-md border-2 px-4 py-2.5 font-semibold text-lg disabled:opacity-50 ${LOOKS[look]} ${className}`}
      {...rest}
    />
  )
}

/** A field with its name above it. */
export function Field({
  name,
  hint,
  ...rest
}: InputHTMLAttributes<HTMLInputElement> & { name: string; hint?: string }) {
  return (
    <label className="block">
      <span className="text-ink-soft">{name}</span>
      <input className="mt-1 block min-h-12 w-full rounded-md border-2 border-rule bg-sheet px-3 text-lg" {...rest} />
      {hint && <span className="text-ink-faint text-sm">{hint}</span>}
    </label>
  )
}

/** A quiet heading with what belongs to it. */
export function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="border-rule border-t pt-4">
      {title && <h2 className="mb-2 text-ink-faint">{title}</h2>}
      {children}
    </section>
  )
}

/** Something that went wrong, said at once to screen readers. */
export function Wrong({ children }: { children: ReactNode }) {
  if (!children) return null
  return (
    <p role="alert" className="border-ebb border-l-4 bg-ebb-wash px-3 py-2">
      {children}
    </p>
  )
}
