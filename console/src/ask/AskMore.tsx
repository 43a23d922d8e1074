import { useEffect, useRef, useState } from 'react'
import { useLocation, useNavigate, useSearchParams } from 'react-router'
import { query } from '../api'

const key = 'wexillum.asked'
interface Asked {
  who: string
  action: string
  resource: string
  address?: string
}

function recent(): Asked[] {
  try {
    return JSON.parse(localStorage.getItem(key) ?? '[]') as Asked[]
  } catch {
    return []
  }
}

/** What people say that does not work, and the action that it is about. */
const complaints: { says: string; action: string }[] = [
  { says: '“I cannot invite somebody.”', action: 'directory.invite' },
  { says: '“They cannot get into the space.”', action: 'spaces.enter' },
  { says: '“They cannot open a file.”', action: 'files.open' },
  { says: '“They cannot change a file.”', action: 'files.edit' },
  { says: '“I cannot share a file.”', action: 'files.share' },
  { says: '“They cannot write to me.”', action: 'chat.message' },
  { says: '“They cannot call me.”', action: 'chat.call' },
  { says: '“They cannot join my meeting, or wait at the door.”', action: 'meetings.join' },
  { says: '“They cannot take control of my screen.”', action: 'meetings.remote_control' },
  { says: '“They do not see when I am busy.”', action: 'mail.see_busy' },
  { says: '“My mail is not forwarded.”', action: 'mail.forward' },
  { says: '“They cannot see the report.”', action: 'reports.view' },
]

/** Ways into a question: what does not work, and what was asked before. */
export function AskMore({ pick }: { pick: (action: string) => void }) {
  const navigate = useNavigate()
  const { pathname } = useLocation()
  const [params] = useSearchParams()
  const [open, setOpen] = useState(false)
  const [asked, setAsked] = useState(recent)
  const box = useRef<HTMLDivElement>(null)
  const now = pathname === '/ask' ? params.toString() : ''
  useEffect(() => {
    const p = new URLSearchParams(now)
    const x: Asked = {
      who: p.get('who') ?? '',
      action: p.get('action') ?? '',
      resource: p.get('resource') ?? '',
      ...(p.get('address') ? { address: p.get('address')! } : {}),
    }
    if (!x.who || !x.action || !x.resource) return
    const list = [x, ...recent().filter((o) => JSON.stringify(o) !== JSON.stringify(x))].slice(0, 8)
    localStorage.setItem(key, JSON.stringify(list))
    setAsked(list)
  }, [now])
  return (
    <div
      className="ask-more"
      ref={box}
      onBlur={(e) => !box.current?.contains(e.relatedTarget) && setOpen(false)}
      onKeyDown={(e) => e.key === 'Escape' && setOpen(false)}
    >
      <button type="button" className="btn btn-sm btn-mast" aria-expanded={open} aria-controls="ask-ways" onClick={() => setOpen(!open)}>
        I was told …
      </button>
      <div id="ask-ways" className="combo-list ask-ways" hidden={!open}>
        <p>What does not work?</p>
        <ul>
          {complaints.map((c) => (
            <li key={c.action}>
              <button
                type="button"
                onClick={() => {
                  pick(c.action)
                  setOpen(false)
                }}
              >
                {c.says}
              </button>
            </li>
          ))}
        </ul>
        {asked.length > 0 && (
          <>
            <p>Asked before</p>
            <ul>
              {asked.map((a) => (
                <li key={JSON.stringify(a)}>
                  <button
                    type="button"
                    onClick={() => {
                      setOpen(false)
                      navigate(`/ask${query({ ...a })}`)
                    }}
                  >
                    {a.who} · {a.action} · {a.resource}
                  </button>
                </li>
              ))}
            </ul>
          </>
        )}
      </div>
    </div>
  )
}
