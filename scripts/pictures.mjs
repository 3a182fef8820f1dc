// Makes the pictures in docs/screenshots anew from the demo's data: `make pictures`. Needs a release build and Chromium.
import { execFileSync, spawn } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'

const root = join(dirname(fileURLToPath(import.meta.url)), '..')
const bin = join(root, process.env.BIVECTOR_BIN ?? 'target/release/bivector')
const out = (name) => join(root, 'docs/screenshots', `${name}.png`)
const work = mkdtempSync(join(tmpdir(), 'pictures-'))
const sleep = (ms) => new Promise((resolve) => setTimeout(resolve, ms))

// ---- a browser, driven over its own protocol
const chromium = spawn('/usr/bin/chromium', [
  '--headless', '--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking',
  '--disable-component-update', '--disable-sync', `--user-data-dir=${join(work, 'profile')}`, '--remote-debugging-port=0', 'about:blank',
])
const port = await new Promise((resolve) => {
  let text = ''
  chromium.stderr.on('data', (data) => {
    text += data
    const found = text.match(/ws:\/\/[^:]+:(\d+)/)
    if (found) resolve(found[1])
  })
})
const tabs = await (await fetch(`http://127.0.0.1:${port}/json`)).json()
const socket = new WebSocket(tabs.find((tab) => tab.type === 'page').webSocketDebuggerUrl)
await new Promise((resolve) => (socket.onopen = resolve))
let number = 0
const waiting = new Map()
socket.onmessage = (event) => {
  const message = JSON.parse(event.data)
  waiting.get(message.id)?.(message.result)
}
const send = (method, params = {}) =>
  new Promise((resolve) => {
    waiting.set(++number, resolve)
    socket.send(JSON.stringify({ id: number, method, params }))
  })
const run = (expression) => send('Runtime.evaluate', { expression, awaitPromise: true, returnByValue: true })

// Names on the command line: only these.
const only = process.argv.slice(2)
const wanted = (name) => only.length === 0 || only.includes(name)

async function picture(name, url, { width = 1280, height = 800, theme = 'light', steps = [] } = {}) {
  if (!wanted(name)) return
  await send('Emulation.setDeviceMetricsOverride', { width, height, deviceScaleFactor: 1, mobile: false })
  await send('Emulation.setEmulatedMedia', { features: [{ name: 'prefers-color-scheme', value: theme }] })
  await send('Page.navigate', { url })
  await sleep(3000)
  for (const step of steps) {
    if (typeof step === 'function') await step()
    else await run(step)
    await sleep(900)
  }
  const shot = await send('Page.captureScreenshot', { format: 'png' })
  writeFileSync(out(name), Buffer.from(shot.data, 'base64'))
  console.log(name)
}

// ---- a terminal as a page
const colours = { 31: '#e0704f', 33: '#f09a63', 35: '#b79be0', 36: '#4fc3b4' }

function toHtml(text) {
  // A line that was written over shows what was written last.
  const last = text.replaceAll(/[^\n]*(\u001b\[2K\r?|\r(?!\n|\r))/g, '').replaceAll(/\u001b\[\d*K/g, '')
  const plain = last.replaceAll('\r', '').replaceAll('&', '&amp;').replaceAll('<', '&lt;')
  let open = 0
  const painted = plain.replace(/\u001b\[([\d;]*)m/g, (_, codes) => {
    const parts = codes.split(';').map(Number)
    if (parts.includes(0) || codes === '') {
      const close = '</span>'.repeat(open)
      open = 0
      return close
    }
    open += 1
    const colour = parts.map((part) => colours[part]).find(Boolean)
    const style = [colour && `color:${colour}`, parts.includes(1) && 'font-weight:700', parts.includes(2) && 'opacity:.6'].filter(Boolean)
    return `<span style="${style.join(';')}">`
  })
  return painted + '</span>'.repeat(open)
}

/** Runs a command whose output nobody needs; it may say no. */
function terminalOnly(command, env) {
  try {
    execFileSync('sh', ['-c', command], { env: { ...process.env, ...env }, stdio: 'ignore' })
  } catch {
    // A refused login is what some of them are for.
  }
}

async function terminal(name, commands, env = {}, height = 560) {
  if (!wanted(name)) return
  let html = ''
  for (const [shown, command] of commands) {
    // `script` gives the command a terminal, so that it prints as it would for a person.
    const file = join(work, 'typescript')
    try {
      execFileSync('script', ['-qefc', command, file], { cwd: root, env: { ...process.env, ...env, COLUMNS: '140' }, stdio: ['ignore', 'ignore', 'ignore'] })
    } catch {
      // A "no" is an answer too.
    }
    const text = readFileSync(file, 'utf8').replace(/^Script started.*\n/, '').replace(/\n?Script done.*\n?$/, '')
    html += `<b>$ ${shown}</b>\n${toHtml(text.trimEnd())}\n\n`
  }
  const page = join(work, `${name}.html`)
  writeFileSync(page, `<meta charset="utf-8"><style>body{margin:0;background:#0b1417;color:#e6ece8}
    pre{font:13px/1.4 "Liberation Mono",monospace;margin:18px 22px;white-space:pre-wrap}b{color:#a9b9bb}</style><pre>${html.trimEnd()}</pre>`)
  await picture(name, `file://${page}`, { height })
}

// ---- the demo
const http = '127.0.0.1:18190'
const demo = spawn(bin, ['demo', '--data', join(work, 'data'), '--http', http, '--radius', '127.0.0.1:18290', '--directory', '127.0.0.1:18390'], { stdio: 'ignore' })
try {
  await send('Page.enable')
  await terminal('demo-once', [['bivector demo --once', `${bin} demo --once --http 127.0.0.1:0 --radius 127.0.0.1:0 --directory 127.0.0.1:0`]], {}, 700)
  await sleep(45_000)
  const tokenFile = join(work, 'data/operator.token')
  const token = readFileSync(tokenFile, 'utf8').trim()
  const env = { BIVECTOR_SERVER: `http://${http}`, BIVECTOR_TOKEN_FILE: tokenFile }
  const link = `http://${http}/#token=${token}`
  const open = (cause) => `[...document.querySelectorAll('[data-testid=login]')].find((row) => row.innerText.includes('${cause}')).click()`
  await picture('console-login-refused', link, { steps: [open('rule-refused')] })
  await picture('console-chains', `http://${http}/chains#token=${token}`, {
    steps: [`document.querySelector('[data-hop=tidehall]').click()`, `[...document.querySelectorAll('button')].find((one) => one.innerText.includes('Run all checks')).click()`],
  })
  const short = (name, value) => `(() => {
    const field = document.querySelector('input[aria-label="${name}, as a number"]')
    Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set.call(field, '${value}')
    field.dispatchEvent(new Event('input', { bubbles: true }))
    field.dispatchEvent(new KeyboardEvent('keydown', { key: 'Enter', bubbles: true }))
  })()`
  await picture('console-timing', `http://${http}/timing?chain=watch&way=slipway/approval#token=${token}`, {
    steps: [short('slipway.wait', '5s'), '1', '1'],
  })
  const selectAll = () => send('Input.dispatchKeyEvent', { type: 'keyDown', modifiers: 2, key: 'a', code: 'KeyA', windowsVirtualKeyCode: 65 })
  const paste = `(async () => {
    const { text } = await (await fetch('/api/v1/site')).json()
    const changed = text.replace('second = ["totp"]', 'second = []').replace('forms = ["password code(6)", "password"]', 'forms = ["password"]').replaceAll(', factor = "totp"', '')
    const editor = document.querySelector('.cm-content')
    const data = new DataTransfer()
    data.setData('text/plain', changed)
    editor.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true }))
  })()`
  const press = (name) => `[...document.querySelectorAll('button')].find((one) => one.innerText.startsWith('${name}')).click()`
  // A tab of Radix opens on the mouse going down.
  const changes = `[...document.querySelectorAll('[role=tab]')].find((one) => one.innerText === 'Changes').dispatchEvent(new MouseEvent('mousedown', { bubbles: true, button: 0 }))`
  await picture('console-site', `http://${http}/site#token=${token}`, { steps: [`document.querySelector('.cm-content').focus()`, selectAll, paste, changes, press('Apply')] })
  writeFileSync(join(work, 'typed'), 'barnacle-and-buoy')
  writeFileSync(join(work, 'mistakes.toml'), readFileSync(join(root, 'demo/site.toml'), 'utf8')
    .replace('methods', 'metods').replace('"roster"', '"rooster"').replace('secret = "gateway/lantern"', 'secret = "gateway/lanten"')
    .replace('attribute = "Class", text = "survey"', 'attribute = "Clas", text = "survey"'))
  for (let wrong = 0; wrong < 5; wrong++) terminalOnly(`printf 'swell20481300000${wrong}' | ${bin} login yuki --via breakwater --password-file -`, env)
  terminalOnly(`${bin} factor add tomasz --kind hotp --label 'key ring'`, env)
  await picture('console-people', `http://${http}/people#token=${token}`, {
    steps: [`document.querySelector('[data-person="tidehall:yuki"]').click()`, `[...document.querySelectorAll('[data-testid=lock] button')].find((one) => one.textContent === 'Unlock').click()`],
  })
  // Two phones side by side: a new one that waits for its operator, and one that is asked.
  const page = `http://localhost:${http.split(':')[1]}`
  const call = async (method, path, body) => {
    const answer = await fetch(`http://${http}/api/v1${path}`, { method, headers: { authorization: `Bearer ${token}`, 'content-type': 'application/json' }, body: JSON.stringify(body) })
    return answer.json()
  }
  if (wanted('handset')) {
    const frame = async (url) => {
      await send('Emulation.setDeviceMetricsOverride', { width: 390, height: 780, deviceScaleFactor: 1, mobile: true })
      // From nothing: a page that was left may still be in front for a moment.
      await send('Page.navigate', { url: 'about:blank' })
      await sleep(500)
      await send('Page.navigate', { url })
      await sleep(3000)
    }
    const keep = async (name) => writeFileSync(join(work, name), Buffer.from((await send('Page.captureScreenshot', { format: 'png' })).data, 'base64'))
    const invited = await call('POST', '/people/tidehall/tomasz/invitation', {})
    await frame(`${page}/handset#${invited.code}`)
    await run(press('Set up this phone'))
    await sleep(2500)
    await keep('one.png')
    const reference = (await run(`document.querySelector('[data-testid=reference]').innerText`)).result.value
    await call('POST', '/people/tidehall/tomasz/factors/0/confirm', { reference })
    await sleep(1200)
    await keep('two.png')
    await call('POST', '/logins', { person: 'tomasz@watch.northmoor.example', password: 'ebb before flood', via: 'lantern', caller: '198.51.100.77' })
    await sleep(1200)
    await keep('three.png')
    writeFileSync(join(work, 'phones.html'), `<meta charset="utf-8"><style>body{margin:0;background:#d9d3c3;display:flex;gap:28px;padding:10px 27px}img{border-radius:22px;border:3px solid #14282d}</style><img src="one.png"><img src="two.png"><img src="three.png">`)
    await picture('handset', `file://${join(work, 'phones.html')}`, { width: 1310, height: 806 })
  }
  writeFileSync(join(work, 'unproved.toml'), (readFileSync(join(root, 'demo/site.toml'), 'utf8') + '\n' + readFileSync(join(root, 'demo/rehearsals.toml'), 'utf8'))
    .replace('when = { group = "control-room" }', 'when = { group = "control-rom" }').replaceAll('18120', '18290').replace('18636', '18390').replace('18637', '18391'))
  await terminal('rehearse', [
    ['bivector rehearse staff', `${bin} rehearse staff`],
    ['bivector site apply changed.toml --prove staff', `${bin} site apply ${join(work, 'unproved.toml')} --prove staff | tail -14`],
  ], env, 900)
  await terminal('locate', [
    ['bivector locate odo --via breakwater --without-password', `${bin} locate odo --via breakwater --without-password`],
    ['bivector rule try --chain staff --group turbine-crew --group remote-suspended', `${bin} rule try --chain staff --group turbine-crew --group remote-suspended`],
    ['bivector who staff', `${bin} who staff`],
  ], env, 990)
  await picture('console-sessions', `http://${http}/sessions#token=${token}`, { steps: [`document.querySelector('[data-testid=session]').click()`, '1'] })
  await picture('console-prove', `http://${http}/prove#token=${token}`, {
    steps: [`document.querySelector('[data-testid=runs] tbody tr').click()`, '1', '1'],
  })
  await terminal('factors', [
    [`bivector factor temporary pell --for 8h --reason "phone at home"`, `${bin} factor temporary pell --for 8h --reason "phone at home"`],
    ['bivector factor list pell', `${bin} factor list pell`],
    ['bivector factor list tomasz', `${bin} factor list tomasz`],
    ['bivector factor list yuki', `${bin} factor list yuki`],
    ['bivector read --chain contractors --person pell', `printf 'sounding-line sms' | ${bin} read --chain contractors --person pell --text-file -`],
  ], env, 620)
  await terminal('login', [['bivector login ines --via breakwater', `${bin} login ines --via breakwater --password-file ${join(work, 'typed')}`], ['bivector trace list --limit 12', `${bin} trace list --limit 12`], ['bivector trace chart --last 1h', `${bin} trace chart --last 1h`]], env, 1140)
  await terminal('site-check', [['bivector site check mistakes.toml', `cd ${work} && ${bin} site check mistakes.toml`]], env, 920)
  await terminal('people-and-secrets', [['bivector person list', `${bin} person list`], ['bivector person progress', `${bin} person progress`], ['bivector person changes', `${bin} person changes`], ['bivector person show sable', `${bin} person show sable`], ['bivector secret list', `${bin} secret list`], ['bivector site history', `${bin} site history`]], env, 980)
  await terminal('gateways', [['bivector gateway list', `${bin} gateway list`], ['bivector gateway knocks', `${bin} gateway knocks`], ['bivector gateway handover breakwater', `${bin} gateway handover breakwater`]], env, 1060)
  writeFileSync(join(work, 'weaker.toml'), (readFileSync(join(root, 'demo/site.toml'), 'utf8') + '\n' + readFileSync(join(root, 'demo/rehearsals.toml'), 'utf8'))
    .replace('second = ["totp"]', 'second = []').replace('forms = ["password code(6)", "password"]', 'forms = ["password"]').replaceAll(', factor = "totp"', '')
    .replaceAll('18120', '18290').replace('18636', '18390').replace('18637', '18391'))
  await terminal('changes-and-audit', [
    ['bivector site compare weaker.toml', `cd ${work} && ${bin} site compare weaker.toml`],
    ['bivector operator add mara --role operate', `${bin} operator add mara --role operate | sed 's/^bvt_.*/bvt_…/'`],
    ['bivector operator list', `${bin} operator list`],
    ['bivector secret rotate gateway/slipway', `${bin} secret rotate gateway/slipway 2>&1 | sed '1s/.*/…/'`],
    ['bivector audit list --limit 6', `${bin} audit list --limit 6`],
    ['bivector audit verify', `${bin} audit verify`],
  ], env, 860)
  const budget = 'budget watch --via slipway --set slipway.wait=5s'
  await terminal('budget', [
    [`bivector ${budget}`, `${bin} ${budget}`],
    [`bivector ${budget} --suggest`, `${bin} ${budget} --suggest`],
    [`bivector ${budget} --sweep gateway.wait=1s..30s --points 9`, `${bin} ${budget} --sweep gateway.wait=1s..30s --points 9`],
  ], env, 800)
  await terminal('eap', [
    ['bivector rehearse causeway', `${bin} rehearse causeway`],
    ['bivector login --persona tomasz --via causeway --method eap-ttls-pap --outer anonymous@northmoor.example', `${bin} login --persona tomasz --via causeway --method eap-ttls-pap --outer anonymous@northmoor.example`],
  ], env, 1010)
} finally {
  demo.kill('SIGINT')
  chromium.kill()
  await sleep(1500)
  rmSync(work, { recursive: true, force: true })
}
process.exit(0)
