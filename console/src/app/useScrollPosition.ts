import { useLayoutEffect } from 'react'
import { NavigationType, useLocation, useNavigationType } from 'react-router'

const positions = new Map<string, number>() // of the entries of the browser's history, in pixels

/** useScrollPosition shows a new page, also one of a list, from its top, and one that is gone back to where it was. */
export function useScrollPosition() {
  const { pathname, search, key } = useLocation()
  const page = new URLSearchParams(search).get('page')
  const back = useNavigationType() === NavigationType.Pop
  useLayoutEffect(() => {
    window.scrollTo(0, (back && positions.get(key)) || 0)
  }, [pathname, page]) // eslint-disable-line react-hooks/exhaustive-deps -- a filter that is typed moves nothing
  useLayoutEffect(() => {
    const keep = () => void positions.set(key, window.scrollY)
    window.addEventListener('scroll', keep, { passive: true })
    return () => window.removeEventListener('scroll', keep)
  }, [key])
}
