import { QRCodeSVG } from 'qrcode.react'
import type { Invitation } from '../../api/client'
import { fullTime } from '../../lib/format'
import { Button } from '../../ui/Button'

/** An invitation, shown once: to be scanned, followed or typed. */
export function InvitationCode({ made, name, close }: { made: Invitation; name: string; close: () => void }) {
  return (
    <div data-testid="invitation" className="mt-2 border-flood border-l-2 bg-paper px-3 py-2">
      {made.sent_to ? (
        <p>Sent to {made.sent_to}.</p>
      ) : (
        <div className="flex items-start gap-3">
          {made.link && (
            <div className="shrink-0 rounded bg-white p-2">
              <QRCodeSVG value={made.link} size={132} title="QR code with the invitation link" />
            </div>
          )}
          <div className="min-w-0">
            <p className="font-mono text-lg" data-testid="invitation-code">
              {made.code}
            </p>
            {made.link && <p className="break-all font-mono text-ink-soft text-xs">{made.link}</p>}
          </div>
        </div>
      )}
      {made.link ? (
        <p className="mt-1">
          Ask {name} to open this link on their phone, or to enter the code at{' '}
          <span className="font-mono">{made.link.split('#')[0]}</span>. Then confirm the device here with the reference
          it shows.
        </p>
      ) : (
        <p className="mt-1 text-warn">
          Set <code className="font-mono">address</code> under <code className="font-mono">[handset]</code> in the site
          file to get a link and a QR code.
        </p>
      )}
      <p className="mt-1 text-ink-soft">
        For {made.person} only. Can be used once, until {fullTime(made.until_us)}. It will not be shown again.
      </p>
      <Button className="mt-1" onClick={close}>
        Done
      </Button>
    </div>
  )
}
