import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Form } from 'react-bootstrap'
import { useSearchParams } from 'react-router'
import { call, type Rule } from '../api'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'
import { RuleDetail } from './RuleDetail'

const order = ['directory', 'guests', 'spaces', 'chat', 'meetings', 'files', 'mail', 'reports']
const filters = { all: 'All', below: 'Set below', held: 'Held back', advised: 'Not as advised', looser: 'Looser than advised' } as const

export function RulesPage({ role }: { role: string }) {
  const [params, setParams] = useSearchParams()
  const [find, setFind] = useState('')
  const [filter, setFilter] = useState<keyof typeof filters>('all')
  const chosen = params.get('rule') ?? ''
  const service = params.get('service') ?? ''
  const rules = useQuery({
    queryKey: ['rules', find],
    queryFn: () => call('GET /api/v1/rules', { query: { find } }),
    placeholderData: (old) => old,
  })
  const choose = (rule: string) => {
    const p = new URLSearchParams(params)
    if (rule && rule !== chosen) p.set('rule', rule)
    else p.delete('rule')
    setParams(p, { replace: true })
  }
  const list = (rules.data?.rules ?? []).filter(
    (r) =>
      (!service || r.service === service || (service === 'directory' && r.service === 'guests')) &&
      (filter === 'all' ||
        (filter === 'below' && r.below.length > 0) ||
        (filter === 'held' && (r.held_default || r.below.some((b) => b.held))) ||
        (filter === 'looser' && r.exposes) ||
        (filter === 'advised' && r.default !== r.advised)),
  )
  const groups = find
    ? [['best match first', list] as const]
    : order.map((s) => [s, list.filter((r) => r.service === s)] as const).filter(([, l]) => l.length > 0)
  return (
    <Page
      title="Rules"
      lead="All services on one sheet: the limit that no lower layer may exceed, the default that applies where nothing else is set, and the values set below."
      tools={
        <>
          <Form.Control
            size="sm"
            type="search"
            aria-label="Find rules by everyday words"
            placeholder="forward, screen, anonymous link"
            value={find}
            onChange={(e) => setFind(e.target.value)}
          />
          <Form.Select
            size="sm"
            aria-label="Service"
            value={service}
            onChange={(e) => {
              const p = new URLSearchParams(params)
              if (e.target.value) p.set('service', e.target.value)
              else p.delete('service')
              setParams(p, { replace: true })
            }}
          >
            <option value="">All services</option>
            {order.map((s) => (
              <option key={s}>{s}</option>
            ))}
          </Form.Select>
          <Form.Select size="sm" aria-label="Show" value={filter} onChange={(e) => setFilter(e.target.value as keyof typeof filters)}>
            {Object.entries(filters).map(([k, v]) => (
              <option key={k} value={k}>
                {v}
              </option>
            ))}
          </Form.Select>
        </>
      }
    >
      {rules.error && <Wrong error={rules.error} retry={() => void rules.refetch()} />}
      {!rules.data && !rules.error && <Waiting what="Reading rules" />}
      {rules.data && list.length === 0 && (
        <Empty>{find ? `No rule matches “${find}”. Try one everyday word.` : 'No rule is like that.'}</Empty>
      )}
      {groups.map(([s, l]) => (
        <section key={s} className="sheet" aria-labelledby={`svc-${s}`}>
          <h2 id={`svc-${s}`}>{s}</h2>
          <div className="sheet-head" aria-hidden="true">
            <span />
            <span />
            {['limit', 'default', ...layers].map((l) => (
              <span key={l}>{l}</span>
            ))}
          </div>
          <ul>
            {l.map((r) => (
              <RuleLine key={r.name} r={r} open={r.name === chosen} toggle={() => choose(r.name)} edit={role === 'administrator'} />
            ))}
          </ul>
        </section>
      ))}
    </Page>
  )
}

const layers = ['partner', 'people', 'space', 'item'] as const

/** What one layer below the organisation says of a rule, in short. */
function LayerCell({ r, layer }: { r: Rule; layer: (typeof layers)[number] }) {
  const may = r.layers.includes(layer)
  const set = r.below.filter((b) => b.layer === layer)
  const held = set.filter((b) => b.held).length
  const values = [...new Set(set.filter((b) => !b.held).map((b) => b.value))]
  const text = !may ? '·' : set.length === 0 ? '–' : `${set.length}: ${values.slice(0, 2).join(', ')}${values.length > 2 ? ', …' : ''}`
  return (
    <span
      className={`layer-cell${may ? '' : ' is-not'}${set.length ? ' is-set' : ''}`}
      title={
        may
          ? set.length
            ? `${set.length} set here`
            : 'nothing is set here'
          : `cannot be set for ${layer === 'people' ? 'people' : `a ${layer}`}`
      }
    >
      <i>{layer} </i>
      {text}
      {held > 0 && <span className="tag tag-held">{held} held back</span>}
    </span>
  )
}

/** Where limit and default stand on the scale: a small rule with two marks. */
function ScaleMark({ r }: { r: Rule }) {
  if (r.shape !== 'switch' && r.shape !== 'level') return null
  const names = r.values.map((v) => v.value)
  const at = (v: string) => (names.length > 1 ? 6 + (88 * names.indexOf(v)) / (names.length - 1) : 50)
  return (
    <svg className="scale-mark" viewBox="0 0 100 22" aria-hidden="true">
      <path d={`M6 12H${at(r.limit)}`} className="free" />
      <path d={`M${at(r.limit)} 12H94`} className="beyond" />
      {names.map((n) => (
        <circle key={n} cx={at(n)} cy="12" r="2" className="tick" />
      ))}
      <path d={`M${at(r.limit)} 3v18`} className="limit" />
      <circle cx={at(r.default)} cy="12" r="5" className="default" />
    </svg>
  )
}

function RuleLine({ r, open, toggle, edit }: { r: Rule; open: boolean; toggle: () => void; edit: boolean }) {
  useEffect(() => {
    if (open) document.getElementById(`rule-${r.name}`)?.scrollIntoView({ block: 'center', behavior: 'instant' })
  }, [open, r.name])
  return (
    <li className={open ? 'rule is-open' : 'rule'} id={`rule-${r.name}`}>
      <button type="button" className="rule-line" aria-expanded={open} onClick={toggle}>
        <span className="rule-title">
          <b>{r.title}</b>
          <code>{r.name}</code>
        </span>
        <ScaleMark r={r} />
        <span className="layer-cell is-org">
          <i>limit </i>
          <b>{r.limit}</b>
        </span>
        <span className="layer-cell is-org">
          <i>default </i>
          <b>{r.default}</b>
          {r.held_default && <span className="tag tag-held">{r.held_default} held back</span>}
          {r.exposes && <span className="tag tag-looser">looser than advised</span>}
        </span>
        {layers.map((l) => (
          <LayerCell key={l} r={r} layer={l} />
        ))}
      </button>
      {open && <RuleDetail r={r} edit={edit} />}
    </li>
  )
}
