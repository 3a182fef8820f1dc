import type { InputHTMLAttributes, ReactNode } from 'react'
import type { TriedMethod } from '../../api/client'

const BOX = 'rounded border border-rule bg-paper px-2 py-1'

/** A field with its name above it. */
export function Field({ name, children }: { name: string; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className="flex flex-col gap-0.5">
      <span className="text-ink-faint text-xs">{name}</span>
      {children}
    </label>
  )
}

/** A line of text. */
export function TextField({ name, ...rest }: { name: string } & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <Field name={name}>
      <input autoComplete="off" className={BOX} {...rest} />
    </Field>
  )
}

/** One of several words. */
export function ChoiceField({
  name,
  value,
  options,
  onChange,
}: {
  name: string
  value: string
  options: readonly string[]
  onChange: (value: string) => void
}) {
  return (
    <Field name={name}>
      <select value={value} onChange={(event) => onChange(event.target.value)} className={BOX}>
        {options.map((option) => (
          <option key={option}>{option}</option>
        ))}
      </select>
    </Field>
  )
}

/** The methods that can be tried from here. */
const METHODS = [
  'pap',
  'chap',
  'ms-chap-v2',
  'eap',
  'eap-ttls-pap',
  'eap-ttls-gtc',
  'eap-ttls-chap',
  'eap-ttls-mschapv2',
  'eap-ttls-eap-md5',
  'eap-ttls-eap-mschapv2',
  'eap-peap-mschapv2',
  'eap-peap-gtc',
  'eap-peap-tls',
  'eap-gtc',
  'eap-mschapv2',
  'eap-md5',
  'eap-tls',
] as const

/** Whether the service itself carries out EAP with this method; plain `eap` is forwarded. */
export const isEap = (method: string) => method.startsWith('eap-')

/** Whether the method can ask for a further text inside the conversation. */
export const asksInside = (method: string) => method.endsWith('-gtc')

/** Whose login, through which gateway, by which method. */
export type Whose = { person: string; via: string; method: TriedMethod }

/** The fields that every login has. */
export function WhoseFields({
  whose,
  gateways,
  change,
  fixed = false,
}: {
  whose: Whose
  gateways: string[]
  change: (part: Partial<Whose>) => void
  /** Whether the login is on its way, so that its name stays. */
  fixed?: boolean
}) {
  return (
    <>
      <TextField
        name="User name, as typed"
        value={whose.person}
        disabled={fixed}
        onChange={(event) => change({ person: event.target.value })}
      />
      <ChoiceField name="Gateway" value={whose.via} options={gateways} onChange={(via) => change({ via })} />
      <ChoiceField
        name="Method"
        value={whose.method}
        options={METHODS}
        onChange={(method) => change({ method: method as TriedMethod })}
      />
    </>
  )
}
