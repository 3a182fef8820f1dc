import { DropdownMenu } from 'radix-ui'
import { useSession } from '../features/session/useSession'

/** Who is signed in, with which role, and the way out. */
export function Account({ operator, role, version }: { operator: string; role: string; version: string }) {
  const { signOut } = useSession()
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
  const item = 'cursor-default rounded px-2 py-1 outline-none data-[highlighted]:bg-flood-wash'
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger
        data-testid="account"
        className="whitespace-nowrap rounded border border-rule bg-sheet px-2.5 py-1 text-ink hover:border-ink-faint"
      >
        {operator} <span className="text-ink-soft">· {role}</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Content
        align="end"
        sideOffset={4}
        className="z-30 min-w-48 rounded border border-rule bg-sheet p-1 text-sm shadow-black/10 shadow-lg"
      >
        <DropdownMenu.Label className="px-2 py-1 text-ink-soft text-xs">
          Signed in as {operator} with the role {role}
          <br />
          Times in {zone}
          <br />
          Bivector {version}
        </DropdownMenu.Label>
        <DropdownMenu.Separator className="my-1 h-px bg-rule" />
        <DropdownMenu.Item className={item} onSelect={() => void signOut()}>
          Sign out
        </DropdownMenu.Item>
      </DropdownMenu.Content>
    </DropdownMenu.Root>
  )
}
