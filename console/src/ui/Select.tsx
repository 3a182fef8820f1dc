import { getNonce } from 'get-nonce'
import { Select as Radix } from 'radix-ui'

const ANY = '*'

type Props = {
  label: string
  value: string | undefined
  options: string[]
  /** What an option is called; itself if left out. */
  word?: (option: string) => string
  onChange: (value: string | undefined) => void
  /** Whether one of the options has to be chosen: there is no "Any". */
  one?: boolean
}

/** Chooses one of a few words, or any. */
export function Select({ label, value, options, word = (option) => option, onChange, one = false }: Props) {
  return (
    <Radix.Root value={value ?? ANY} onValueChange={(chosen) => onChange(chosen === ANY ? undefined : chosen)}>
      <Radix.Trigger
        aria-label={label}
        className={`flex items-center gap-1.5 rounded border bg-sheet px-2.5 py-1 hover:border-ink-faint ${value ? 'border-ink-faint text-ink' : 'border-rule text-ink-soft'}`}
      >
        <span className="text-ink-faint">{label}</span>
        <Radix.Value />
        <Radix.Icon className="text-xs text-ink-faint">▾</Radix.Icon>
      </Radix.Trigger>
      <Radix.Portal>
        <Radix.Content
          position="popper"
          sideOffset={4}
          className="z-20 max-h-80 overflow-hidden rounded border border-rule bg-sheet shadow-lg shadow-black/10"
        >
          <Radix.Viewport nonce={getNonce()} className="p-1">
            {(one ? options : [ANY, ...options]).map((option) => (
              <Radix.Item
                key={option}
                value={option}
                className="flex cursor-default items-center gap-2 rounded px-2 py-1 outline-none data-[highlighted]:bg-flood-wash"
              >
                <Radix.ItemText>{option === ANY ? 'Any' : word(option)}</Radix.ItemText>
              </Radix.Item>
            ))}
          </Radix.Viewport>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  )
}
