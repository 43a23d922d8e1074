import { useQuery, useQueryClient } from '@tanstack/react-query'
import { announce } from '../parts/announce'
import { Draft } from '../partners/Letters'
import { mayKeep } from '../partners/PartnersPage'
import { useEffect, useState } from 'react'
import { useSearchParams } from 'react-router'
import { Before } from './Before'
import { call, Failure, type Answer, type Gate, type Question, type Session } from '../api'
import { Remedies } from './Remedies'
import { InTheSuite } from '../systems/InTheSuite'
import { Empty, Page, Waiting, when, Wrong } from '../parts/bits'
import { CauseView } from './Causes'

const asks: Record<string, string> = {
  identity: 'Who is this, and can they sign in?',
  domain: 'Is this address allowed in, and is its partner open?',
  counterpart: 'Does the partner allow it on its side?',
  service: 'Is the service open to this kind of account?',
  rule: 'Do all rules allow it?',
  grant: 'Do they have a role, a link, or ownership?',
  licence: 'Does a licence cover it?',
}

const conditions: Record<string, string> = {
  sign_in: 'signs in at home first',
  one_time_code: 'a one-time code is mailed',
  accept_terms: 'accepts the terms of use first',
  passcode: 'the passcode of the meeting is asked',
  password: 'the password of the link is asked',
  held_until_admitted: 'waits until the host admits',
  counterpart_unconfirmed: 'their own side has not confirmed it',
  presenter_asked: 'the presenter is asked each time',
  no_browsing: 'only by the address that was given',
  becomes_guest: 'gets a record with us',
  settling: 'published, not yet in force in the suite',
}

const kinds: Record<string, string> = {
  person: 'one of our people',
  guest: 'guest',
  provisioned: 'provisioned by feed',
  federated: 'federated',
  personal: 'private address',
  bearer: 'whoever holds the link',
}
const accounts: Record<string, string> = {
  record: 'the record with us',
  home: 'the home account',
  link: 'the link',
  person: 'the own account',
}

export function AnswerPage() {
  const [params] = useSearchParams()
  const p = Object.fromEntries(params)
  const question: Question = {
    subject: p.who ?? '',
    action: p.action ?? '',
    resource: p.resource ?? '',
    ...(p.at ? { at: p.at } : {}),
    context: { ...(p.address ? { address: p.address } : {}), ...(p.presenter ? { presenter: p.presenter } : {}) },
  }
  const asked = useQuery({
    queryKey: ['ask', params.toString()],
    queryFn: () => call('POST /api/v1/ask', { body: question }),
    enabled: Boolean(p.who && p.action && p.resource),
    placeholderData: (old, q) => (q?.queryKey[1] === params.toString() ? old : undefined),
  })
  if (!p.who)
    return (
      <Page title="Ask">
        <Empty>Ask above: who may do what with which item or person.</Empty>
      </Page>
    )
  if (asked.error) {
    const wrong = asked.error instanceof Failure && asked.error.problem.type.endsWith('/wrong-use')
    return (
      <Page
        title={wrong ? 'That question makes no sense' : 'No answer'}
        lead={
          wrong ? 'This question cannot be answered. Ask it differently: while you type, the bar above suggests what exists.' : undefined
        }
      >
        <Wrong error={asked.error} retry={wrong ? undefined : () => void asked.refetch()} />
      </Page>
    )
  }
  if (!asked.data) return <Waiting what="Asking every gate" />
  return <AnswerView x={asked.data} question={question} />
}

function AnswerView({ x, question }: { x: Answer; question: Question }) {
  const session = useQueryClient().getQueryData<Session>(['session'])
  const [shown, setShown] = useState(0)
  const key = `${x.subject} ${x.action} ${x.resource}`
  useEffect(() => setShown(0), [key])
  const acc = x.accounts[Math.min(shown, x.accounts.length - 1)]
  const yes = x.decision === 'yes'
  const refusing = x.gates.filter((g) => g.answer === 'refuse')
  const causes = refusing.flatMap((g) => g.causes.filter((c) => c.refuses))
  const theirs = causes.filter((c) => c.side === 'theirs').length
  const who = x.name || x.subject
  const what = x.resource_name || x.resource
  const verdict = `${yes ? 'Yes' : 'No'}: ${who} ${yes ? 'may' : 'may not'} ${x.action_title}: ${what}.`
  useEffect(() => announce(verdict), [verdict])
  return (
    <Page title={`${yes ? 'Yes' : 'No'}: ${who}`} bare>
      <div className={`verdict ${yes ? 'is-yes' : 'is-no'}`} data-testid="verdict" data-decision={x.decision}>
        <p className="verdict-word" aria-hidden="true">
          {yes ? '▲ Yes' : '▼ No'}
        </p>
        <div>
          <h1 className="verdict-line" id="page-title">
            <span className="visually-hidden">{yes ? 'Yes: ' : 'No: '}</span>
            <b>{who}</b> {yes ? 'may' : 'may not'} {x.action_title}: <b>{what}</b>
            {x.address && (
              <>
                , about <b>{x.address}</b>
              </>
            )}
          </h1>
          <p className="verdict-sub">
            {x.subject} · {kinds[x.kind] ?? x.kind} · {x.action} · {x.resource} · {when(x.at)} · revision {x.revision}
          </p>
          {!yes && (
            <p className="verdict-sub">
              {causes.length === 1 ? 'One thing blocks this' : `${causes.length} things block this`}
              {theirs > 0
                ? `, ${theirs === causes.length ? (theirs === 1 ? 'on their side' : 'all on their side') : `${theirs === 1 ? 'one' : theirs} of them on their side`}`
                : ''}
              . <a href="#h-remedies">What would help</a>
            </p>
          )}
          {x.settling && (
            <p className="verdict-sub">
              Published, and not yet so in the suite
              {x.settling.from ? `: expected ${when(x.settling.from)}` : '; when it will be is not known'}.
            </p>
          )}
          {yes && x.conditions.length > 0 && (
            <ul className="conditions" aria-label="Conditions">
              {x.conditions.map((c) => (
                <li key={c}>{conditions[c] ?? c}</li>
              ))}
            </ul>
          )}
        </div>
      </div>
      {session?.role !== 'member' && !x.subject.startsWith('person:') && !x.address && (
        <Before who={x.subject} action={x.action} resource={x.resource} />
      )}
      <InTheSuite question={question} meant={x.decision} role={session?.role ?? ''} />
      {x.accounts.length > 1 && (
        <div className="accounts" role="group" aria-label="Account">
          {x.accounts.map((a, i) => (
            <button key={a.account} type="button" className="account" aria-pressed={i === shown} onClick={() => setShown(i)}>
              {a.decision === 'yes' ? '▲' : '▼'} with {accounts[a.account]}: {a.decision}
              {i === 0 ? ' (decides)' : ''}
            </button>
          ))}
        </div>
      )}
      <Quay key={`${key} ${acc.account}`} gates={acc.gates} />
      {!yes && <Remedies question={question} role={session?.role ?? ''} asked={`${key} ${x.revision}`} />}
      {mayKeep(session?.role ?? '') && (theirs > 0 || x.conditions.includes('counterpart_unconfirmed')) && (
        <section className="theirs-to-change" aria-labelledby="h-theirs">
          <h2 id="h-theirs">{theirs > 0 ? 'Theirs to change' : 'Theirs is not known'}</h2>
          <Draft key={`${key} ${x.address ?? ''}`} about={{ question }} />
        </section>
      )}
    </Page>
  )
}

/** The gates in a row, like flags along a quay: hoisted, struck, or a bare pole. */
function Quay({ gates }: { gates: Gate[] }) {
  const first = gates.findIndex((g) => g.answer === 'refuse')
  const [chosen, setChosen] = useState<number | undefined>()
  const refusing = gates.filter((g) => g.answer === 'refuse')
  const below = chosen === undefined ? (refusing.length > 0 ? refusing : gates.filter((g) => g.answer === 'pass')) : [gates[chosen]]
  return (
    <>
      <ol className="quay" aria-label="Gates">
        {gates.map((g, i) => {
          const whose = g.answer === 'refuse' ? (g.causes.some((c) => c.refuses && c.side === 'theirs') ? 'theirs' : 'ours') : ''
          const word = g.answer === 'pass' ? 'pass' : g.answer === 'refuse' ? 'refuses' : 'not asked'
          return (
            <li key={g.gate}>
              <button
                type="button"
                className={`pole is-${g.answer}`}
                data-testid={`gate-${g.gate}`}
                data-answer={g.answer}
                disabled={g.answer === 'not_asked'}
                aria-pressed={chosen === i}
                onClick={() => setChosen(chosen === i ? undefined : i)}
              >
                <Pole answer={g.answer} theirs={whose === 'theirs'} />
                <span className="pole-name">{g.gate}</span>
                <span className="pole-word">{word}</span>
                <span className="pole-whose">{whose || ' '}</span>
              </button>
            </li>
          )
        })}
      </ol>
      <p className="quay-hint">
        {chosen === undefined
          ? first >= 0
            ? 'What blocks this is listed below. Choose a flag to see only that gate.'
            : 'Every gate passes. Choose a flag to see only that gate.'
          : 'Choose the flag again to see all gates.'}
      </p>
      {below.map((g) => (
        <GateView key={g.gate} gate={g} all={chosen !== undefined || refusing.length === 0} />
      ))}
    </>
  )
}

function Pole({ answer, theirs }: { answer: Gate['answer']; theirs: boolean }) {
  return (
    <svg className="pole-art" viewBox="0 0 96 104" aria-hidden="true">
      <path d="M22 6v98" className="mast-line" />
      <circle cx="22" cy="5" r="4" className="mast-knob" />
      {answer === 'pass' && (
        <g className="flag">
          <path d="M24 14h54l-10 15 10 15H24z" />
          <path d="M36 29l7 7 13-14" className="glyph" />
        </g>
      )}
      {answer === 'refuse' && (
        <g className={`flag${theirs ? ' flag-theirs' : ''}`}>
          <path d="M24 62h52c-5 6-5 8 0 15-4 6-3 10 1 15H24z" />
          <path d="M38 70l14 14M52 70L38 84" className="glyph" />
        </g>
      )}
    </svg>
  )
}

function GateView({ gate, all }: { gate: Gate; all: boolean }) {
  const causes = all ? gate.causes : gate.causes.filter((c) => c.refuses)
  return (
    <section className={`gate-view is-${gate.answer}`} aria-label={`Gate ${gate.gate}`}>
      <h2>
        {gate.gate} <small>{asks[gate.gate]}</small>
      </h2>
      <ul className="causes">
        {causes.map((c, i) => (
          <CauseView key={i} c={c} />
        ))}
      </ul>
    </section>
  )
}
