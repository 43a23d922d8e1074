// A directory that takes people by SCIM 2.0, made of packages that others wrote: what our feeds send is tried against it.
import express from 'express'
import SCIMMY from 'scimmy'
import SCIMMYRouters from 'scimmy-routers'

const users = new Map()
let last = 0

SCIMMY.Resources.declare(SCIMMY.Resources.User, {
  egress: (asked) => {
    if (asked.id) {
      const u = users.get(asked.id)
      if (!u) throw new SCIMMY.Types.Error(404, null, `nobody has the id ${asked.id}`)
      return u
    }
    return [...users.values()]
  },
  ingress: (asked, sent) => {
    const id = asked.id ?? `user-${++last}`
    if ([...users.values()].some((u) => u.id !== id && u.userName === sent.userName)) throw new SCIMMY.Types.Error(409, 'uniqueness', `${sent.userName} is there already`)
    const u = { ...JSON.parse(JSON.stringify(sent)), id }
    users.set(id, u)
    return u
  },
  degress: (asked) => {
    users.delete(asked.id)
  },
})

const app = express()
app.get('/all', (_, answer) => answer.json([...users.values()].map((u) => ({ userName: u.userName, displayName: u.displayName, title: u.title, active: u.active !== false }))))
app.use(
  '/scim/v2',
  new SCIMMYRouters({
    type: 'bearer',
    docUri: 'https://peer.example',
    handler: (asked) => {
      if (asked.header('Authorization') !== `Bearer ${process.env.PEER_TOKEN}`) throw new Error('the token is not known')
      return 'feed'
    },
  }),
)
const server = app.listen(0, '127.0.0.1', () => console.log(`http://127.0.0.1:${server.address().port}`))
