import type { PersonState } from '../../api/client'

/** How far people are on the way to a second factor, in the order of the way. */
export const STATES: PersonState[] = [
  'not-yet',
  'invited',
  'expired',
  'waiting',
  'enrolled',
  'proven',
  'locked',
  'suspended',
]

type Look = { mark: string; word: string; text: string; fill: string }

export const LOOKS: Record<PersonState, Look> = {
  'not-yet': { mark: '○', word: 'not yet', text: 'text-ink-faint', fill: 'bg-rule' },
  invited: { mark: '◔', word: 'invited', text: 'text-warn', fill: 'bg-warn/50' },
  expired: { mark: '◌', word: 'invitation expired', text: 'text-warn', fill: 'bg-warn-wash' },
  waiting: { mark: '◑', word: 'to be confirmed', text: 'text-warn', fill: 'bg-warn' },
  enrolled: { mark: '◕', word: 'enrolled', text: 'text-flood', fill: 'bg-flood/50' },
  proven: { mark: '●', word: 'proven', text: 'text-flood', fill: 'bg-flood' },
  locked: { mark: '✕', word: 'locked', text: 'text-ebb', fill: 'bg-ebb' },
  suspended: { mark: '–', word: 'suspended', text: 'text-slack', fill: 'bg-slack' },
}
