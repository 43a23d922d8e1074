import { useQuery } from '@tanstack/react-query'
import { useEffect, useState, type FormEvent } from 'react'
import { Button } from 'react-bootstrap'
import { useNavigate, useSearchParams } from 'react-router'
import { call, query } from '../api'
import { Combo } from '../parts/Combo'
import { AskMore } from './AskMore'

export function useActions() {
  return useQuery({ queryKey: ['actions'], queryFn: () => call('GET /api/v1/actions'), staleTime: Infinity })
}

/** The one question that is always there: who may do what to which, and when. */
export function AskBar() {
  const [params] = useSearchParams()
  const navigate = useNavigate()
  const [who, setWho] = useState(params.get('who') ?? '')
  const [action, setAction] = useState(params.get('action') ?? '')
  const [resource, setResource] = useState(params.get('resource') ?? '')
  const [at, setAt] = useState(params.get('at') ?? '')
  const [address, setAddress] = useState(params.get('address') ?? '')
  const [presenter, setPresenter] = useState(params.get('presenter') ?? '')
  const [lacking, setLacking] = useState<string>()
  const asked = params.get('who') ? params.toString() : ''
  useEffect(() => {
    if (!asked) return
    const p = new URLSearchParams(asked)
    setWho(p.get('who') ?? '')
    setAction(p.get('action') ?? '')
    setResource(p.get('resource') ?? '')
    setAt(p.get('at') ?? '')
    setAddress(p.get('address') ?? '')
    setPresenter(p.get('presenter') ?? '')
  }, [asked])
  const actions = useActions()
  const act = actions.data?.actions.find((a) => a.name === action.trim())
  const submit = (e: FormEvent) => {
    e.preventDefault()
    const missing = !who.trim()
      ? 'who'
      : !action.trim()
        ? 'action'
        : !resource.trim()
          ? 'resource'
          : act?.address && !address.trim()
            ? 'address'
            : undefined
    setLacking(missing)
    if (missing) return
    navigate(
      `/ask${query({ who: who.trim(), action: action.trim(), resource: resource.trim(), at: at.trim(), address: act?.address ? address.trim() : undefined, presenter: act?.presenter ? presenter.trim() : undefined })}`,
    )
  }
  return (
    <form className="askbar" role="search" aria-label="Ask who may do what" onSubmit={submit}>
      <Combo label="Who" kind="who" value={who} onChange={setWho} placeholder="name, address, *@domain" invalid={lacking === 'who'} />
      <Combo
        label="may do what"
        kind="action"
        value={action}
        onChange={setAction}
        placeholder="invite, open, join …"
        invalid={lacking === 'action'}
      />
      <Combo
        label="to which"
        kind="resource"
        value={resource}
        onChange={setResource}
        action={act?.name}
        placeholder={act ? `a ${act.resources[0]}, by name` : 'a space, a file, a person'}
        invalid={lacking === 'resource'}
      />
      {act?.address && (
        <Combo
          label="about whom outside"
          kind="address"
          value={address}
          onChange={setAddress}
          placeholder="address"
          invalid={lacking === 'address'}
        />
      )}
      {act?.presenter && <Combo label="presenter" kind="person" value={presenter} onChange={setPresenter} placeholder="the host" />}
      <div className="combo when">
        <label htmlFor="ask-at">when</label>
        <input
          id="ask-at"
          className="form-control"
          list="ask-moments"
          value={at}
          onChange={(e) => setAt(e.target.value)}
          placeholder="now"
          autoComplete="off"
        />
        <datalist id="ask-moments">
          <option value="now" />
          <option value="+1d">tomorrow</option>
          <option value="+7d">in a week</option>
          <option value="+30d">in thirty days</option>
          <option value="-30d">thirty days ago</option>
        </datalist>
      </div>
      <AskMore
        pick={(a) => {
          setAction(a)
          setResource('')
          document.querySelector<HTMLInputElement>('.askbar input')?.focus()
        }}
      />
      <Button type="submit" variant="ask">
        Ask
      </Button>
      {lacking && (
        <p className="askbar-lack" role="alert">
          {
            { who: 'Say who asks.', action: 'Say what is tried.', resource: 'Say to which resource.', address: 'Say about whom outside.' }[
              lacking
            ]
          }
        </p>
      )}
    </form>
  )
}
