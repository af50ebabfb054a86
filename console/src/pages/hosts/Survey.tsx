import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Alert, Button } from 'antd'
import { survey } from '../../api/queries'
import { counted } from '../../ui/Ago'

// Survey asks hosts what they are: those that the expression fits, or all of them.
export function Survey({ where, filtered }: { where: string; filtered: boolean }) {
  const cache = useQueryClient()
  const go = useMutation({ mutationFn: () => survey(filtered ? where : ''), onSettled: () => cache.invalidateQueries() })
  return (
    <>
      <Button loading={go.isPending} onClick={() => go.mutate()}>
        {filtered ? 'Survey these hosts' : 'Survey all hosts'}
      </Button>
      {go.error && <Alert type="error" title={go.error.message} />}
      {go.data && <span role="status" className="second">{counted(go.data.hosts, 'host')} asked.</span>}
    </>
  )
}
