import type { ButtonHTMLAttributes } from 'react'

/** A plain button. */
export function Button({ className = '', ...rest }: ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <button
      type="button"
      className={`rounded border border-rule bg-sheet px-2.5 py-1 text-ink-soft hover:border-ink-faint hover:text-ink disabled:opacity-50 ${className}`}
      {...rest}
    />
  )
}
