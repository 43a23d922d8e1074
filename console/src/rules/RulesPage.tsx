import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useState, type FormEvent } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { call, query, type Rule } from '../api'
import { Capped } from '../parts/Capped'
import { useDraft } from '../parts/Dialog'
import { RuleAudienceLine } from '../reach/NumbersPage'
import { Empty, Page, Waiting, Wrong } from '../parts/bits'

const order = ['directory', 'guests', 'spaces', 'chat', 'meetings', 'files', 'mail', 'reports']
const filters = { all: 'All', below: 'Set below', held: 'Held back', advised: 'Not as advised', looser: 'Looser than advised' } as const

export function RulesPage({ role }: { role: string }) {
  const [params, setParams] = useSearchParams()
  const [find, setFind] = useState('')
  const [filter, setFilter] = useState<keyof typeof filters>('all')
  const chosen = params.get('rule') ?? ''
  const service = params.get('service') ?? ''
  const rules = useQuery({ queryKey: ['rules', find], queryFn: () => call<{ rules: Rule[] }>('GET', `/api/v1/rules${query({ find })}`), placeholderData: (old) => old })
  const choose = (rule: string) => {
    const p = new URLSearchParams(params)
    if (rule && rule !== chosen) p.set('rule', rule)
    else p.delete('rule')
    setParams(p, { replace: true })
  }
  const list = (rules.data?.rules ?? []).filter(
    (r) =>
      (!service || r.service === service || (service === 'directory' && r.service === 'guests')) &&
      (filter === 'all' || (filter === 'below' && r.below.length > 0) || (filter === 'held' && (r.held_default || r.below.some((b) => b.held))) || (filter === 'looser' && r.exposes) || (filter === 'advised' && r.default !== r.advised)),
  )
  const groups = find ? [['best match first', list] as const] : order.map((s) => [s, list.filter((r) => r.service === s)] as const).filter(([, l]) => l.length > 0)
  return (
    <Page
      title="Rules"
      lead="All services on one sheet: the limit that no lower layer may exceed, the default that applies where nothing else is set, and the values set below."
      tools={
        <>
          <Form.Control size="sm" type="search" aria-label="Find rules by everyday words" placeholder="forward, screen, anonymous link" value={find} onChange={(e) => setFind(e.target.value)} />
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
      {rules.data && list.length === 0 && <Empty>{find ? `No rule matches “${find}”. Try one everyday word.` : 'No rule is like that.'}</Empty>}
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
    <span className={`layer-cell${may ? '' : ' is-not'}${set.length ? ' is-set' : ''}`} title={may ? (set.length ? `${set.length} set here` : 'nothing is set here') : `cannot be set for ${layer === 'people' ? 'people' : `a ${layer}`}`}>
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

function RuleDetail({ r, edit }: { r: Rule; edit: boolean }) {
  const client = useQueryClient()
  const [limit, setLimit] = useState(r.limit)
  const [def, setDef] = useState(r.default)
  const [why, setWhy] = useState('')
  const draft = useDraft()
  useEffect(() => {
    setLimit(r.limit)
    setDef(r.default)
  }, [r.limit, r.default])
  const save = useMutation({
    mutationFn: () =>
      call<Rule>('PUT', `/api/v1/rules/${r.name}`, { ...(limit !== r.limit ? { limit } : {}), ...(def !== r.default || r.held_default ? { default: def } : {}), ...(why ? { why } : {}) }, { 'If-Match': r.etag }),
    onSuccess: () => {
      setWhy('')
      void client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' })
    },
  })
  const submit = (e: FormEvent) => {
    e.preventDefault()
    save.mutate()
  }
  const changed = limit !== r.limit || def !== r.default
  const field = (label: string, value: string, set: (v: string) => void) => (
    <Form.Group controlId={`${r.name}-${label}`}>
      <Form.Label>{label}</Form.Label>
      {r.shape === 'switch' || r.shape === 'level' || r.shape === 'choice' ? (
        <Form.Select size="sm" value={value} onChange={(e) => set(e.target.value)}>
          {r.values.map((v) => (
            <option key={v.value}>{v.value}</option>
          ))}
        </Form.Select>
      ) : (
        <Form.Control size="sm" value={value} onChange={(e) => set(e.target.value)} aria-describedby={`${r.name}-hint`} />
      )}
    </Form.Group>
  )
  return (
    <div className="rule-detail">
      <div>
        <dl className="sentences">
          {r.values.map((v) => (
            <div key={v.value} className={v.value === r.default ? 'is-default' : ''}>
              <dt>{v.value}</dt>
              <dd>{v.sentence}</dd>
            </div>
          ))}
        </dl>
        <p className="quiet">
          Advised: <b>{r.advised}</b>. {r.advised_reason} {r.omits}
        </p>
        <p className="quiet">{r.layers.length ? `Also set at ${r.layers.join(', ')}.` : 'Set by the organisation alone.'}</p>
        <RuleAudienceLine rule={r.name} value={r.limit} />
        {r.held_default && <p className="held">The default {r.held_default} is held back. Saving a default releases it.</p>}
        {r.below.length > 0 && (
          <Capped list={r.below} first={50}>
            {(below) => (
          <table className="table below">
            <caption>Set below</caption>
            <thead>
              <tr>
                <th scope="col">Layer</th>
                <th scope="col">Where</th>
                <th scope="col">Value</th>
              </tr>
            </thead>
            <tbody>
              {below.map((b) => (
                <tr key={b.layer + b.where}>
                  <td>{b.layer}</td>
                  <td>
                    {b.layer === 'partner' ? (
                      <Link to={`/partners/${b.where}`}>{b.name || b.where}</Link>
                    ) : b.layer === 'people' ? (
                      <Link to={`/exceptions#${b.where}`}>exception {b.where}</Link>
                    ) : b.layer === 'space' ? (
                      <Link to={`/spaces/${b.where}`}>{b.name || b.where}</Link>
                    ) : (
                      b.name || b.where
                    )}
                    {b.layer === 'people' && b.name ? `: ${b.name}` : ''}
                  </td>
                  <td>
                    {b.value}
                    {b.held ? ' (held back)' : ''}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
            )}
          </Capped>
        )}
      </div>
      {edit && (
        <Form className="rule-form" onSubmit={submit} aria-label={`Change ${r.name}`}>
          {save.error && <Wrong error={save.error} />}
          {field('Limit', limit, setLimit)}
          {field('Default', def, setDef)}
          {(r.shape === 'days' || r.shape === 'methods') && (
            <p className="quiet" id={`${r.name}-hint`}>
              {r.shape === 'days' ? 'A number of days, or none.' : `Some of ${r.values.map((v) => v.value).join(', ')}, with commas; or all.`}
            </p>
          )}
          <Form.Group controlId={`${r.name}-why`}>
            <Form.Label>Why</Form.Label>
            <Form.Control size="sm" value={why} onChange={(e) => setWhy(e.target.value)} />
          </Form.Group>
          <Button type="submit" size="sm" disabled={(!changed && !r.held_default) || save.isPending}>
            {draft ? 'Save in the draft' : 'Weigh and save'}
          </Button>
          {save.isSuccess && !changed && (
            <span role="status" className="saved">
              {draft ? `Saved in the draft “${draft.name}”; it counts once that is published.` : 'Published. It counts now.'}
            </span>
          )}
        </Form>
      )}
    </div>
  )
}
