import { useQuery } from '@tanstack/react-query'
import { Alert, Table, type TableColumnsType } from 'antd'
import { Link } from 'react-router'
import type { Change } from '../../api/client'
import { changes } from '../../api/queries'
import { Ago } from '../../ui/Ago'
import { Counts } from '../../ui/StateMark'

const columns: TableColumnsType<Change> = [
  { title: 'No.', dataIndex: 'id', width: 56 },
  { title: 'Change', dataIndex: 'title', render: (title: string, c) => <Link to={`/changes/${c.id}`}>{title}</Link> },
  { title: 'State', dataIndex: 'state', width: 100 },
  { title: 'Hosts', dataIndex: 'counts', width: 340, render: (_, c) => <Counts counts={c.counts} /> },
  { title: 'Author', dataIndex: 'author', width: 80 },
  { title: 'Moved', dataIndex: 'updated_at', width: 100, render: (at: string) => <Ago at={at} /> },
  { title: 'Next', dataIndex: 'next', width: 230 },
]

export function ChangesPage() {
  const list = useQuery(changes())
  return (
    <main>
      <div className="head">
        <h1>Changes</h1>
      </div>
      {list.error && <Alert type="error" title={list.error.message} style={{ marginBottom: 12 }} />}
      <Table<Change>
        size="small"
        rowKey="id"
        columns={columns}
        dataSource={list.data}
        loading={list.isPending}
        scroll={{ x: 980 }}
        pagination={{ pageSize: 50, hideOnSinglePage: true, showSizeChanger: false }}
        locale={{ emptyText: 'No change has been drafted yet. Draft one with: wladder draft FILE' }}
      />
    </main>
  )
}
