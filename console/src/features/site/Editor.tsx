import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { bracketMatching, HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language'
import { toml } from '@codemirror/legacy-modes/mode/toml'
import { type Diagnostic, lintGutter, lintKeymap, setDiagnostics } from '@codemirror/lint'
import { highlightSelectionMatches, search, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import {
  drawSelection,
  EditorView,
  highlightActiveLine,
  highlightActiveLineGutter,
  keymap,
  lineNumbers,
} from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { getNonce } from 'get-nonce'
import { type Ref, useEffect, useImperativeHandle, useRef } from 'react'
import type { Finding } from '../../api/client'

/** What the page may ask of the editor. */
export type EditorHandle = { goTo: (line: number) => void; replace: (text: string) => void }

type Props = {
  text: string
  readOnly: boolean
  findings: Finding[]
  onChange: (text: string) => void
  ref: Ref<EditorHandle>
}

const colours = HighlightStyle.define([
  { tag: tags.comment, color: 'var(--ink-faint)', fontStyle: 'italic' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--flood)' },
  { tag: [tags.number, tags.bool, tags.atom], color: 'var(--slack)' },
  {
    tag: [tags.propertyName, tags.definition(tags.variableName), tags.keyword],
    color: 'var(--ink)',
    fontWeight: '600',
  },
])

const looks = EditorView.theme({
  '&': { height: '100%', backgroundColor: 'var(--sheet)', color: 'var(--ink)', fontSize: '13px' },
  '.cm-scroller': { fontFamily: 'var(--font-mono, monospace)', lineHeight: '1.5' },
  '.cm-gutters': { backgroundColor: 'var(--paper)', color: 'var(--ink-faint)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--rule-fine)' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--flood-wash) !important' },
  '.cm-tooltip, .cm-panels': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', border: '1px solid var(--rule)' },
})

/** The site file in an editor, with what the check says at its lines. */
export function Editor({ text, readOnly, findings, onChange, ref }: Props) {
  const place = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(undefined)
  const changed = useRef(onChange)
  useEffect(() => {
    changed.current = onChange
  })
  // biome-ignore lint/correctness/useExhaustiveDependencies: the editor owns the text once it is open
  useEffect(() => {
    if (!place.current) return
    view.current = new EditorView({
      parent: place.current,
      state: begin(text, readOnly, (now) => changed.current(now)),
    })
    return () => view.current?.destroy()
  }, [readOnly])
  useEffect(() => {
    const editor = view.current
    if (editor)
      editor.dispatch(
        setDiagnostics(
          editor.state,
          findings.map((finding) => diagnostic(finding, editor.state)),
        ),
      )
  }, [findings])
  useImperativeHandle(ref, () => ({
    goTo(line) {
      const editor = view.current
      if (!editor) return
      const { from } = editor.state.doc.line(Math.min(Math.max(line, 1), editor.state.doc.lines))
      editor.dispatch({ selection: { anchor: from }, effects: EditorView.scrollIntoView(from, { y: 'center' }) })
      editor.focus()
    },
    replace(next) {
      const editor = view.current
      editor?.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: next } })
    },
  }))
  return <div ref={place} data-testid="editor" className="h-full min-h-0 overflow-hidden" />
}

function begin(text: string, readOnly: boolean, onChange: (text: string) => void) {
  return EditorState.create({
    doc: text,
    extensions: [
      EditorView.cspNonce.of(getNonce() ?? ''),
      lineNumbers(),
      lintGutter(),
      history(),
      drawSelection(),
      bracketMatching(),
      highlightActiveLine(),
      highlightActiveLineGutter(),
      highlightSelectionMatches(),
      search({ top: true }),
      StreamLanguage.define(toml),
      syntaxHighlighting(colours),
      looks,
      EditorState.readOnly.of(readOnly),
      EditorView.contentAttributes.of({ 'aria-label': 'Site file', tabindex: '0' }),
      keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap, ...lintKeymap, indentWithTab]),
      EditorView.updateListener.of((update) => update.docChanged && onChange(update.state.doc.toString())),
    ],
  })
}

/** The check counts lines; inside a line it marks from the column to the end of what it means. */
function diagnostic(finding: Finding, state: EditorState): Diagnostic {
  const line = state.doc.line(Math.min(Math.max(finding.line, 1), state.doc.lines))
  const from = Math.min(line.from + finding.column - 1, line.to)
  const to = Math.min(from + Math.max(finding.end - finding.start, 1), line.to)
  return {
    from,
    to: Math.max(from, to),
    severity: finding.severity,
    message: `${finding.message}. To do: ${finding.remedy}.`,
    markClass: finding.severity === 'error' ? 'cm-lintRange-error' : 'cm-lintRange-warning',
  }
}
