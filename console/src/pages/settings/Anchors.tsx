import Link from '@mui/material/Link'
import { useQuery } from '@tanstack/react-query'
import { Link as RouterLink } from 'react-router'
import { anchorsQuery } from '../../api/queries'
import { Foreign } from '../../parts/Foreign'
import { Loaded } from '../../parts/Loaded'
import { Panel, Quiet, Row } from '../../parts/Panel'
import { Print } from '../../parts/Print'
import { day } from '../../parts/words'

/** Anchors are the roots that the fleet trusts. */
export function Anchors() {
  const all = useQuery(anchorsQuery)
  return (
    <Panel title="Roots that the fleet trusts" term="anchor">
      <Loaded query={all}>
        {(anchors) => (
          <>
            {anchors.length === 0 && <Quiet>None yet.</Quiet>}
            {anchors.map((a) => (
              <Row key={a.sha256}>
                <Foreign strong>{a.subject}</Foreign>
                <Quiet grow>until {day(a.not_after)}</Quiet>
                <Link component={RouterLink} to={`/slots?serves=${a.sha256}`}>
                  slots that use it
                </Link>
                <div style={{ width: '100%' }}>
                  <Print text={a.sha256} what={`the SHA-256 of ${a.subject}`} />
                </div>
              </Row>
            ))}
          </>
        )}
      </Loaded>
      <Quiet>
        Another one comes in from a terminal: <code>freshseal trust-group add root.pem</code>, or with a pile on the
        desk.
      </Quiet>
    </Panel>
  )
}
