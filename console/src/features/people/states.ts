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

type Look = { mark: string; word: string; means: string; text: string; fill: string }

export const LOOKS: Record<PersonState, Look> = {
  'not-yet': {
    mark: '○',
    word: 'No factor',
    means: 'No second factor and no open invitation',
    text: 'text-ink-faint',
    fill: 'bg-rule',
  },
  invited: { mark: '◔', word: 'Invited', means: 'An invitation is open', text: 'text-warn', fill: 'bg-warn/50' },
  expired: {
    mark: '◌',
    word: 'Invitation expired',
    means: 'The invitation was not used in time',
    text: 'text-warn',
    fill: 'bg-warn-wash',
  },
  waiting: {
    mark: '◑',
    word: 'Awaiting confirmation',
    means: 'A new device waits until an operator confirms it',
    text: 'text-warn',
    fill: 'bg-warn',
  },
  enrolled: {
    mark: '◕',
    word: 'Enrolled, unused',
    means: 'Has a factor, and has not signed in with it yet',
    text: 'text-flood',
    fill: 'bg-flood/50',
  },
  proven: {
    mark: '●',
    word: 'In use',
    means: 'Has signed in with a factor at least once',
    text: 'text-flood',
    fill: 'bg-flood',
  },
  locked: {
    mark: '✕',
    word: 'Locked',
    means: 'Codes, passwords or approvals are blocked for a time',
    text: 'text-ebb',
    fill: 'bg-ebb',
  },
  suspended: {
    mark: '–',
    word: 'Suspended',
    means: 'An operator has suspended the person',
    text: 'text-slack',
    fill: 'bg-slack',
  },
}
