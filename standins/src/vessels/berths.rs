//! The service without HTTP rules.

use super::*;

#[tonic::async_trait]
impl Berths for Arc<Harbour> {
    async fn list_berths(
        &self,
        request: Request<ListBerthsRequest>,
    ) -> Result<Response<ListBerthsResponse>, Status> {
        let harbour = request.into_inner().harbour;
        Ok(Response::new(ListBerthsResponse {
            berths: data::berths()
                .into_iter()
                .filter(|b| harbour.is_empty() || b.harbour == harbour)
                .collect(),
        }))
    }

    async fn get_berth(
        &self,
        request: Request<GetBerthRequest>,
    ) -> Result<Response<Berth>, Status> {
        let id = request.into_inner().berth_id;
        data::berths()
            .into_iter()
            .find(|b| b.berth_id == id)
            .map(Response::new)
            .ok_or_else(|| unknown(&id))
    }

    async fn assign_berth(
        &self,
        request: Request<AssignBerthRequest>,
    ) -> Result<Response<Berth>, Status> {
        let asked = request.into_inner();
        let mut berth = data::berths()
            .into_iter()
            .find(|b| b.berth_id == asked.berth_id)
            .ok_or_else(|| unknown(&asked.berth_id))?;
        berth.vessel = asked.vessel;
        Ok(Response::new(berth))
    }

    type WatchBerthStream = Many<Berth>;

    async fn watch_berth(
        &self,
        request: Request<GetBerthRequest>,
    ) -> Result<Response<Self::WatchBerthStream>, Status> {
        let id = request.into_inner().berth_id;
        let found: Vec<Result<Berth, Status>> = data::berths()
            .into_iter()
            .filter(|b| b.berth_id == id)
            .map(Ok)
            .collect();
        Ok(Response::new(Box::pin(tokio_stream::iter(found))))
    }
}
